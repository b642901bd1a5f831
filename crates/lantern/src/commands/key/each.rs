//! The same on several machines at once: each tells what came of it, and one that fails does not keep the others from it.

use std::collections::HashSet;
use std::sync::Arc;

use lantern_book::{Home, MachineBook, select};
use lantern_operations::many::{Halt, ManyOptions, each};
use lantern_operations::{ReachOptions, counted};
use serde_json::{Value, json};

use crate::cli::at_once::AtOnceArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::SelectionArgs;
use crate::cli::machine::set::PlanArgs;
use crate::commands::block_on;
use crate::commands::for_many::{at_once, called, interruptible};
use crate::commands::sharing::sharing_the_way_to;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::terminal::ask::TerminalAsk;

/// What is done, in the words for a plan and a question.
pub(super) struct Deed<'a> {
    /// "new" or "gone".
    pub(super) what: &'static str,
    /// Of each machine: "the key harbour".
    pub(super) detail: String,
    /// "Install harbour on".
    pub(super) question: &'a str,
    /// Whether nothing may be asked.
    pub(super) no_questions: bool,
}

/// What came of it on one machine; none where it was not begun.
pub(super) type Outcome<T> = Option<Result<T, Failure>>;

/// Machines, and how each of them is reached.
pub(super) struct Chosen {
    pub(super) names: Vec<String>,
    /// The ring is shared, and so is the way to several.
    pub(super) options: ReachOptions,
    /// Those that others of them are reached through. They come last and one by one: whoever is on the way through one is not to find its keys changed.
    last: HashSet<String>,
}

impl Chosen {
    /// Those of a selection.
    ///
    /// # Errors
    /// It makes no sense.
    pub(super) fn of(home: &Home, machines: &SelectionArgs, connect: &ConnectArgs) -> Result<Self, Failure> {
        let book = MachineBook::load(home)?;
        let names = select(&book, &machines.selection, &machines.but.except)?;
        Ok(Self::these(home, &book, names, connect))
    }

    /// These.
    pub(super) fn these(home: &Home, book: &MachineBook, names: Vec<String>, connect: &ConnectArgs) -> Self {
        let mut options = connect.reach_many(home);
        let mut last = HashSet::new();
        if names.len() > 1 {
            last.extend(names.iter().filter_map(|name| book.gateways(name).ok()).flatten());
            last.extend(connect.gateways.iter().cloned());
            options.shares = Some(sharing_the_way_to(home, connect, called(home, book, &names)));
        }
        Self { names, options, last }
    }
}

/// Does it on all machines, after a plan or a question where there are several.
///
/// # Errors
/// What failed on the only machine; of several, that some failed.
pub(super) fn on_each<F: Future<Output = Result<Value, Failure>> + Send + 'static>(
    chosen: &Chosen,
    (plan, limit): (PlanArgs, AtOnceArgs),
    deed: &Deed<'_>,
    (ask, json): (&TerminalAsk, bool),
    act: impl Fn(String, TerminalAsk) -> F,
) -> Result<(), Failure> {
    let names = &chosen.names;
    let row = |name: &String| Planned { what: deed.what, ..Planned::new(name, deed.detail.as_str()) };
    let rows: Vec<Planned> = names.iter().map(row).collect();
    let several = names.len() > 1;
    let question = format!("{} {}?", deed.question, counted(names.len(), "machine"));
    let asks = several || deed.what == "gone";
    plan.unasked(deed.no_questions, asks)?;
    if !plan.settle(&rows, &question, asks, json)? {
        return if json { output::print_json(&json!([])) } else { Ok(()) };
    }
    let hear = |name: &str, outcome: &Result<Value, Failure>| match outcome {
        Err(failure) if several => output::complain_of(name, failure),
        _ => {}
    };
    let mut outcomes = block_on(carry_out(chosen, limit, ask, act, hear))?;
    if !several && let Some(Some(Err(failure))) = outcomes.pop_if(|only| matches!(only, Some(Err(_)))) {
        return Err(failure);
    }
    if json {
        let value = |(name, outcome): (&String, &Outcome<Value>)| match outcome {
            Some(Ok(value)) => value.clone(),
            Some(Err(failure)) => {
                json!({ "machine": name, "error": failure.headline, "code": failure.code })
            }
            None => json!({ "machine": name, "error": "not begun", "code": code::INTERRUPTED }),
        };
        output::print_json(&names.iter().zip(&outcomes).map(value).collect::<Vec<_>>())?;
    }
    let failed: Vec<(&String, u8)> = names
        .iter()
        .zip(&outcomes)
        .filter_map(|(name, outcome)| outcome.as_ref()?.as_ref().err().map(|failure| (name, failure.code)))
        .collect();
    let not_begun = outcomes.iter().filter(|outcome| outcome.is_none()).count();
    let all = counted(names.len(), "machine");
    match (failed.first(), not_begun) {
        (None, 0) => Ok(()),
        (_, not_begun @ 1..) => {
            Err(Failure::new(code::INTERRUPTED, format!("interrupted: {not_begun} of {all} not begun")))
        }
        (Some((_, code)), 0) => {
            let which: Vec<String> = failed.iter().map(|(name, _)| (*name).clone()).collect();
            let text = format!("{} of {all} failed", failed.len());
            Err(Failure::new(*code, text).detail(crate::screen::login_advice::some(&which)))
        }
    }
}

/// Does something on each of several machines: at once as far as nobody need be asked, and then one after the other with whoever is there. A passphrase
/// that is told on the way opens the key for all that are left, which go on at once again. What came of each, in their order; `hear` is told as they end.
///
/// # Errors
/// Signals cannot be watched.
pub(super) async fn carry_out<T: Send + 'static, F: Future<Output = Result<T, Failure>> + Send + 'static>(
    chosen: &Chosen,
    limit: AtOnceArgs,
    ask: &TerminalAsk,
    act: impl Fn(String, TerminalAsk) -> F,
    hear: impl Fn(&str, &Result<T, Failure>),
) -> Result<Vec<Outcome<T>>, Failure> {
    let Chosen { names, last, .. } = chosen;
    if let [only] = names.as_slice() {
        let outcome = act(only.clone(), ask.clone()).await;
        hear(only, &outcome);
        return Ok(vec![Some(outcome)]);
    }
    let (halt, has_person) = (Arc::new(Halt::default()), ask.has_person());
    let mut outcomes: Vec<Outcome<T>> = names.iter().map(|_| None).collect();
    let mut left: Vec<usize> = (0..names.len()).collect();
    while !left.is_empty() {
        let is_last = |index: &usize| names.get(*index).is_some_and(|name| last.contains(name));
        let (ways, others): (Vec<usize>, Vec<usize>) = left.into_iter().partition(is_last);
        let mut waiting = Vec::new();
        for (round, at_once) in [(others, at_once(limit)), (ways, 1)] {
            let going: Vec<String> = round.iter().filter_map(|index| names.get(*index).cloned()).collect();
            let job = |_: usize, name: &str| {
                let (own, halt) = (ask.for_one_of_many(), halt.clone());
                let work = act(name.to_owned(), own.clone());
                async move {
                    let outcome = halt.unless_ended(work).await.unwrap_or_else(|| Err(interrupted()));
                    let waits = outcome.is_err() && own.lacked_an_answer() && !halt.is_wanted();
                    (outcome, waits)
                }
            };
            let hear_of = |index: usize, (outcome, waits): &(Result<T, Failure>, bool)| {
                if let Some(name) = going.get(index)
                    && !(*waits && has_person)
                {
                    hear(name, outcome);
                }
                true
            };
            let options = ManyOptions { at_once, stop_after: None };
            let work = async { Ok::<_, Failure>(each(&going, options, &halt, job, hear_of).await) };
            let done = interruptible(work, &halt).await?;
            for (index, done) in round.into_iter().zip(done) {
                let Some((outcome, waits)) = done else { continue };
                if waits && has_person {
                    waiting.push(index);
                } else if let Some(place) = outcomes.get_mut(index) {
                    *place = Some(outcome);
                }
            }
        }
        if halt.is_wanted() {
            break;
        }
        // What was handed over was not it there.
        ask.forget_given_password();
        let known = ask.passphrases();
        let mut waiting = waiting.into_iter();
        for index in waiting.by_ref() {
            let (Some(name), Some(place)) = (names.get(index), outcomes.get_mut(index)) else { continue };
            let outcome = act(name.clone(), ask.clone()).await;
            hear(name, &outcome);
            let is_over = matches!(&outcome, Err(failure) if failure.code == code::INTERRUPTED);
            *place = Some(outcome);
            if is_over {
                return Ok(outcomes);
            }
            if ask.passphrases() > known {
                break;
            }
        }
        left = waiting.collect();
    }
    Ok(outcomes)
}

fn interrupted() -> Failure {
    Failure::new(code::INTERRUPTED, "interrupted")
}
