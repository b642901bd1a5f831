//! What was found, printed.

use std::borrow::Cow;
use std::time::Duration;

use serde_json::{Value, json};

use super::account::{Account, Line, Mark};
use crate::failure::Failure;
use crate::output;

/// How wide the name of a step is.
const STAGE_WIDTH: usize = 10;
const MARK_WIDTH: usize = 6;
/// How much of a step's account a table has room for, in characters.
const DETAIL_WIDTH: usize = 48;

fn took(time: Option<Duration>) -> String {
    match time {
        None => String::new(),
        Some(time) if time < Duration::from_secs(10) => format!("{:.1} ms", time.as_secs_f64() * 1e3),
        Some(time) => format!("{:.1} s", time.as_secs_f64()),
    }
}

fn paint(mark: Mark, text: &str) -> String {
    let color = match mark {
        Mark::Good => "\x1b[32m",
        Mark::Note => "\x1b[36m",
        Mark::Doubt => "\x1b[33m",
        Mark::Failed => "\x1b[1;31m",
    };
    if output::colorful_stdout() { format!("{color}{text}\x1b[0m") } else { text.to_owned() }
}

fn line_text(line: &Line) -> String {
    let mark = paint(line.mark, &format!("{:<MARK_WIDTH$}", line.mark.word()));
    let stage = format!("{:<STAGE_WIDTH$}", line.stage.name());
    let at = line.gateway.as_ref().map(|gateway| format!("[{gateway}] ")).unwrap_or_default();
    let time = took(line.took);
    let time = if time.is_empty() { time } else { format!("  ({time})") };
    let mut text = format!("{mark}  {stage}  {at}{}{time}\n", line.saw);
    if line.mark > Mark::Good {
        for advice in &line.advice {
            text.push_str(&format!("{}{advice}\n", " ".repeat(MARK_WIDTH + STAGE_WIDTH + 6)));
        }
    }
    text
}

/// The line that came last, as it comes.
pub(super) fn print_new_lines(account: &Account) {
    thread_local!(static PRINTED: std::cell::Cell<usize> = const { std::cell::Cell::new(0) });
    let printed = PRINTED.replace(account.lines.len());
    for line in account.lines.iter().skip(printed) {
        // A pipe that closes early ends the printing, not the check.
        let _ = output::print(&line_text(line));
    }
}

/// The sentence and the command that end the account of one machine.
pub(super) fn print_end(account: &Account) -> Result<(), Failure> {
    let arrow = if output::colorful_stdout() { "\x1b[36m→\x1b[0m" } else { "→" };
    output::print(&format!("\n{}\n{arrow} {}\n", account.sentence, account.command))
}

/// Many machines, the worst first.
pub(super) fn print_table(accounts: &[Account]) -> Result<(), Failure> {
    let mut sorted: Vec<&Account> = accounts.iter().collect();
    sorted.sort_by_key(|account| (std::cmp::Reverse(account.rank().0), account.machine.clone()));
    let rows = sorted.iter().map(|account| {
        let (state, detail) = state(account);
        [
            Cow::Borrowed(account.machine.as_str()),
            state.into(),
            detail.into(),
            short_command(&account.command),
        ]
    });
    output::print(&output::table(&["MACHINE", "STATE", "WHAT", "NEXT"], rows))?;
    let well = accounts.iter().filter(|account| account.is_well()).count();
    let failed = accounts.iter().filter(|account| account.failed().is_some()).count();
    let doubtful = accounts.len() - well - failed;
    output::say(&format!("\n{well} well, {doubtful} doubtful, {failed} failed."));
    Ok(())
}

/// The command to type as a table has room for it: without the remark behind it.
fn short_command(command: &str) -> Cow<'_, str> {
    let command = command.split("   ").next().unwrap_or(command);
    match command.strip_prefix("on the machine's console: ") {
        Some(there) => format!("its console: {there}").into(),
        None => command.into(),
    }
}

/// The state of a machine in a word or two, and what it is about.
pub(super) fn state(account: &Account) -> (String, String) {
    let short = |text: &str| {
        let cut: String = text.chars().take(DETAIL_WIDTH).collect();
        if cut.len() < text.len() { format!("{cut}…") } else { cut }
    };
    match account.failed() {
        Some(line) => {
            let at = line.gateway.as_ref().map(|gateway| format!(" of {gateway}")).unwrap_or_default();
            (format!("FAILED {}{at}", line.stage.name()), short(&line.saw))
        }
        None if account.is_well() => {
            let login = account.lines.iter().rev().find(|line| line.stage == super::account::Stage::Shell);
            ("ok".into(), login.map(|line| short(&line.saw)).unwrap_or_default())
        }
        None => {
            let doubt = account.lines.iter().find(|line| line.mark == Mark::Doubt);
            ("doubt".into(), doubt.map(|line| short(&line.saw)).unwrap_or_default())
        }
    }
}

/// Everything as JSON: a list, whatever the number of machines.
pub(super) fn print_json(accounts: &[Account]) -> Result<(), Failure> {
    let values: Vec<Value> = accounts.iter().map(account_json).collect();
    output::print_json(&values)
}

fn account_json(account: &Account) -> Value {
    let lines = account.lines.iter().map(|line| {
        json!({
            "step": line.stage.name(), "gateway": line.gateway, "state": line.mark.word().to_lowercase(),
            "saw": line.saw, "milliseconds": line.took.map(|took| (took.as_secs_f64() * 1e6).round() / 1e3),
            "advice": line.advice,
        })
    });
    json!({
        "machine": account.machine,
        "address": account.place,
        "state": if account.failed().is_some() { "failed" } else if account.is_well() { "ok" } else { "doubt" },
        "failed_step": account.failed().map(|line| line.stage.name()),
        "exit_code": account.rank().1,
        "sentence": account.sentence,
        "next": account.command,
        "steps": lines.collect::<Vec<Value>>(),
    })
}
