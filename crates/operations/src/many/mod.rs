//! The same on many machines: each reached, run, listened to and noted, so many at a time, whatever each of them does.
//!
//! [`each`] is the engine, which serves whatever is done on many machines, and [`run_many`] runs something by it; [`groups`] says which machines said the same; a [`RunNote`] is what is kept of a run.

mod careful;
mod each;
mod ending;
mod groups;
mod halt;
mod kept;
mod note;
mod one;
mod power_shell;
mod script;
mod work;

use std::sync::Arc;

use lantern_book::{BookError, Home, MachineBook};
use lantern_link::Ask;
use lantern_ssh::Stream;

use crate::ReachOptions;

pub use each::{ManyOptions, each};
pub use ending::{Ended, Ending};
pub use groups::{Group, difference, groups};
pub use halt::Halt;
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

/// Runs something on machines, by their names; what became of each, in their order. Those that were not begun are none.
///
/// # Errors
/// The book cannot be read.
pub async fn run_many(home: &Home, names: &[String], run: ManyRun) -> Result<Vec<Option<Ended>>, BookError> {
    let ManyRun { work, mut reach, acts_as, options, ask, watch, halt } = run;
    reach.ring.get_or_insert_default();
    let book = Arc::new(MachineBook::load(home)?);
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
    let job = |index: usize, name: &str| {
        let (context, name, watch) = (context.clone(), name.to_owned(), watch.clone());
        async move {
            let ended = one::run_on(&context, &name, index, &*watch).await;
            watch.ended(index, &ended.ending);
            ended
        }
    };
    Ok(each(names, options, &halt, job, |_, ended| ended.ending.is_good()).await)
}
