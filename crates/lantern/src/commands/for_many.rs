//! What commands for many machines have in common: who answers, how many at once, and how they end.

use std::sync::Arc;

use lantern_book::{Home, MachineBook};
use lantern_link::{Answering, Ask, Question};
use lantern_operations::Target;
use lantern_operations::many::Halt;
use tokio::signal::unix::SignalKind;

use super::descriptors::allow_many;
use super::watch;
use crate::cli::at_once::AtOnceArgs;
use crate::screen::failure::Failure;
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

/// Machines at once for each processor: most of the time they are waited for.
const FOR_EACH_PROCESSOR: usize = 24;
/// Most machines at once, where nothing is said.
const MOST_AT_ONCE: usize = 256;
/// Files that one machine may have open here: its connection, its outputs, and what a look at keys and trust opens for a moment.
const FILES_OF_ONE: usize = 6;

/// How many machines at once: as was said, or as this computer can.
pub(super) fn at_once(args: AtOnceArgs) -> usize {
    let files = allow_many() / FILES_OF_ONE;
    if let Some(said) = args.at_once {
        return usize::from(said);
    }
    let processors = std::thread::available_parallelism().map_or(1, usize::from);
    (processors * FOR_EACH_PROCESSOR).min(files).clamp(1, MOST_AT_ONCE)
}

/// How machines are called when something is asked about them: those of the book by their names, others by their places.
pub(super) fn called(home: &Home, book: &MachineBook, typed: &[String]) -> Vec<String> {
    let called = |typed: &String| match book.get(typed) {
        Ok(_) => typed.clone(),
        Err(_) => Target::find(home, book, typed).map_or_else(|_| typed.clone(), |found| found.name),
    };
    typed.iter().map(called).collect()
}

/// Nobody is asked for many machines. A password that was handed over is for those that nothing else opens; where keys do, it is not at hand.
#[derive(Clone)]
pub(super) struct ForMany(Arc<TerminalAsk>);

impl ForMany {
    /// Who knows what this one was told, for these machines.
    ///
    /// # Errors
    /// The book cannot be read.
    pub(super) fn of(home: &Home, ask: &TerminalAsk, machines: &[String]) -> Result<Self, Failure> {
        let called = called(home, &MachineBook::load(home)?, machines);
        Ok(Self(Arc::new(ask.for_many(&called))))
    }
}

impl Ask for ForMany {
    fn ask(&self, question: Question) -> Answering {
        self.0.ask(question)
    }
}

/// The first Ctrl-C begins no more machines, the second ends those that run.
///
/// # Errors
/// Signals cannot be watched; what the run says.
pub(super) async fn interruptible<T, E: Into<Failure>>(
    run: impl Future<Output = Result<T, E>>,
    halt: &Halt,
) -> Result<T, Failure> {
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut terminations = watch(SignalKind::terminate())?;
    let mut hangups = watch(SignalKind::hangup())?;
    let mut run = std::pin::pin!(run);
    loop {
        tokio::select! {
            outcome = &mut run => return outcome.map_err(Into::into),
            _ = interrupts.recv() => match halt.is_wanted() {
                false => {
                    halt.begin_no_more();
                    output::say("No more machines are begun; once more ends those that run.");
                }
                true => halt.end_all(),
            },
            _ = terminations.recv() => halt.end_all(),
            _ = hangups.recv() => halt.end_all(),
        }
    }
}
