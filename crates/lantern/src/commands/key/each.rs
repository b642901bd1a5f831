//! The same on several machines at once: each tells what came of it, and one that fails does not keep the others from it.

use std::sync::Arc;

use lantern_book::{Home, MachineBook, select};
use lantern_operations::counted;
use lantern_operations::many::{Halt, ManyOptions, each};
use serde_json::{Value, json};

use crate::cli::at_once::AtOnceArgs;
use crate::cli::machine::selection::SelectionArgs;
use crate::cli::machine::set::PlanArgs;
use crate::commands::block_on;
use crate::commands::for_many::{at_once, interruptible};
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

/// Does it on all machines of a selection, after a plan or a question where there are several.
///
/// # Errors
/// A selection that makes no sense; what failed on the only machine; of several, that some failed.
pub(super) fn on_each<F: Future<Output = Result<Value, Failure>> + Send + 'static>(
    home: &Home,
    machines: &SelectionArgs,
    (plan, limit): (PlanArgs, AtOnceArgs),
    deed: &Deed<'_>,
    (ask, json): (&TerminalAsk, bool),
    act: impl Fn(String, TerminalAsk) -> F,
) -> Result<(), Failure> {
    let names = select(&MachineBook::load(home)?, &machines.selection, &machines.but.except)?;
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
    let mut outcomes = block_on(carry_out(&names, limit, ask, act, hear))?;
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
    names: &[String],
    limit: AtOnceArgs,
    ask: &TerminalAsk,
    act: impl Fn(String, TerminalAsk) -> F,
    hear: impl Fn(&str, &Result<T, Failure>),
) -> Result<Vec<Outcome<T>>, Failure> {
    if let [only] = names {
        let outcome = act(only.clone(), ask.clone()).await;
        hear(only, &outcome);
        return Ok(vec![Some(outcome)]);
    }
    let halt = Arc::new(Halt::default());
    let options = ManyOptions { at_once: at_once(limit), stop_after: None };
    let mut outcomes: Vec<Outcome<T>> = names.iter().map(|_| None).collect();
    let mut left: Vec<usize> = (0..names.len()).collect();
    while !left.is_empty() {
        let going: Vec<String> = left.iter().filter_map(|index| names.get(*index).cloned()).collect();
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
                && !(*waits && ask.may_ask())
            {
                hear(name, outcome);
            }
            true
        };
        let work = async { Ok::<_, Failure>(each(&going, options, &halt, job, hear_of).await) };
        let done = interruptible(work, &halt).await?;
        let mut waiting = Vec::new();
        for (index, done) in left.into_iter().zip(done) {
            let Some((outcome, waits)) = done else { continue };
            if waits && ask.may_ask() {
                waiting.push(index);
            } else if let Some(place) = outcomes.get_mut(index) {
                *place = Some(outcome);
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
