//! The same on many machines: each reached, run, listened to and noted, so many at a time, whatever each of them does.
//!
//! [`run_many`] is the engine; [`groups`] says which machines said the same; a [`RunNote`] is what is kept of a run.

mod careful;
mod ending;
mod groups;
mod kept;
mod note;
mod one;
mod power_shell;
mod script;
mod work;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use lantern_book::{BookError, Home, MachineBook};
use lantern_link::Ask;
use lantern_ssh::Stream;
use tokio::sync::Notify;

use crate::ReachOptions;
use crate::at_once::at_once;

pub use ending::{Ended, Ending};
pub use groups::{Group, difference, groups};
pub use kept::{Kept, MOST_KEPT};
pub use note::{MachineNote, RunNote, RunNotes};
pub use script::{Script, ScriptError};
pub use work::Work;

/// Where a machine is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// It is being reached.
    Connecting,
    /// What was asked for runs.
    Running,
}

/// Who is told what happens, by the machine's place among all of them.
pub trait ManyWatch: Send + Sync {
    /// It has come so far.
    fn phase(&self, index: usize, phase: Phase);
    /// It wrote something.
    fn wrote(&self, index: usize, stream: Stream, piece: &[u8]);
    /// It is over with it.
    fn ended(&self, index: usize, ending: &Ending);
}

/// How a run goes.
#[derive(Debug, Clone, Copy)]
pub struct ManyOptions {
    /// Machines at once.
    pub at_once: usize,
    /// After so many that failed, no more are begun.
    pub stop_after: Option<usize>,
}

/// What runs, and by what.
pub struct ManyRun {
    /// What runs.
    pub work: Arc<Work>,
    /// How machines are reached.
    pub reach: ReachOptions,
    /// Whom it runs as, in place of what the book says.
    pub acts_as: Option<String>,
    /// How it goes.
    pub options: ManyOptions,
    /// Who answers.
    pub ask: Arc<dyn Ask>,
    /// Who is told.
    pub watch: Arc<dyn ManyWatch>,
    /// What ends it before its end.
    pub halt: Arc<Halt>,
}

/// How a run is ended before its end.
#[derive(Debug, Default)]
pub struct Halt {
    begins_no_more: AtomicBool,
    ends_all: AtomicBool,
    changed: Notify,
}

impl Halt {
    /// No more machines are begun.
    pub fn begin_no_more(&self) {
        self.begins_no_more.store(true, Ordering::Release);
    }

    /// What runs is ended, too.
    pub fn end_all(&self) {
        self.begin_no_more();
        self.ends_all.store(true, Ordering::Release);
        self.changed.notify_waiters();
    }

    /// Whether no more are begun.
    pub fn is_wanted(&self) -> bool {
        self.begins_no_more.load(Ordering::Acquire)
    }

    /// Waits until what runs is to end.
    pub(crate) async fn ends(&self) {
        loop {
            let changed = self.changed.notified();
            if self.ends_all.load(Ordering::Acquire) {
                return;
            }
            changed.await;
        }
    }
}

/// Runs something on machines, by their names; what became of each, in their order. Those that were not begun are none.
///
/// # Errors
/// The book cannot be read.
pub async fn run_many(home: &Home, names: &[String], run: ManyRun) -> Result<Vec<Option<Ended>>, BookError> {
    let ManyRun { work, reach, acts_as, options, ask, watch, halt } = run;
    let book = Arc::new(MachineBook::load(home)?);
    let failed = Arc::new(AtomicUsize::new(0));
    let context = Arc::new(one::Context {
        home: home.clone(),
        book,
        work,
        reach,
        ask,
        halt: halt.clone(),
        tries: Arc::default(),
        acts_as,
        privileges: Arc::default(),
    });
    // One is made when its turn has come: what waits costs nothing.
    let jobs = names.iter().enumerate().map_while(|(index, name)| {
        let enough = options.stop_after.is_some_and(|most| failed.load(Ordering::Acquire) >= most);
        if enough || halt.is_wanted() {
            return None;
        }
        let (context, name, watch, failed) = (context.clone(), name.clone(), watch.clone(), failed.clone());
        Some(async move {
            let ended = one::run_on(&context, &name, index, &*watch).await;
            if !ended.ending.is_good() {
                failed.fetch_add(1, Ordering::AcqRel);
            }
            watch.ended(index, &ended.ending);
            ended
        })
    });
    let mut outcomes = at_once(jobs, options.at_once, |_, _| {}).await;
    outcomes.resize_with(names.len(), || None);
    Ok(outcomes)
}
