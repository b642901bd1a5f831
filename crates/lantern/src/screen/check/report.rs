//! What was found, printed.

use std::borrow::Cow;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use lantern_operations::check::{Account, Line, Mark, Stage};
use serde_json::{Value, json};

use super::advice;
use crate::screen::failure::Failure;
use crate::screen::fit::{Fit, fit};
use crate::screen::output;

/// How wide the name of a step is.
const STAGE_WIDTH: usize = 11;
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

/// A word in the color of a mark.
pub(crate) fn paint(mark: Mark, text: &str) -> Fit {
    let color = match mark {
        Mark::Good => "\x1b[32m",
        Mark::Note => "\x1b[36m",
        Mark::Doubt => "\x1b[33m",
        Mark::Failed => "\x1b[1;31m",
    };
    Fit::picture(if output::colorful_stdout() { format!("{color}{text}\x1b[0m") } else { text.to_owned() })
}

/// A word, so that the color is never alone in telling.
pub(crate) fn word(mark: Mark) -> &'static str {
    match mark {
        Mark::Good => "ok",
        Mark::Note => "note",
        Mark::Doubt => "doubt",
        Mark::Failed => "FAILED",
    }
}

fn line_text(line: &Line, account: &Account) -> Fit {
    let mark = paint(line.mark, &format!("{:<MARK_WIDTH$}", word(line.mark)));
    let stage = format!("{:<STAGE_WIDTH$}", line.stage.name());
    let at = line.gateway.as_ref().map(|gateway| format!("[{gateway}] ")).unwrap_or_default();
    let time = took(line.took);
    let time = if time.is_empty() { time } else { format!("  ({time})") };
    let mut text = fit!("{}  {}  {}{}{}\n", mark, stage, at, line.saw, time);
    if line.mark > Mark::Good {
        for advice in advice::of_line(line, account) {
            text.push(fit!("{}{}\n", " ".repeat(MARK_WIDTH + STAGE_WIDTH + 6), advice));
        }
    }
    text
}

/// The lines of an account as they come.
#[derive(Default)]
pub(crate) struct Lines {
    printed: AtomicUsize,
}

impl Lines {
    /// Prints what is new.
    pub(crate) fn print_new(&self, account: &Account) {
        let printed = self.printed.swap(account.lines.len(), Ordering::Relaxed);
        for line in account.lines.iter().skip(printed) {
            // A pipe that closes early ends the printing, not the check.
            let _ = output::print(&line_text(line, account));
        }
    }
}

/// How bad it is, and the exit code for that: the earlier a step fails, the worse.
pub(crate) fn rank(account: &Account) -> (u8, u8) {
    let code = match &account.failed {
        Some(failed) => advice::exit_code(&failed.error),
        None => account.severity().min(1),
    };
    (account.severity(), code)
}

/// The sentence and the command that end the account of one machine.
pub(crate) fn print_end(account: &Account) -> Result<(), Failure> {
    let arrow = Fit::literal(if output::colorful_stdout() { "\x1b[36m→\x1b[0m" } else { "→" });
    let end = advice::conclusion(account);
    output::print(&fit!("\n{}\n{} {}\n", end.sentence, arrow, end.command))
}

/// Many machines, the worst first.
pub(crate) fn print_table(accounts: &[Account]) -> Result<(), Failure> {
    let mut sorted: Vec<&Account> = accounts.iter().collect();
    sorted.sort_by_key(|account| (std::cmp::Reverse(account.severity()), account.machine.clone()));
    let rows = sorted.iter().map(|account| {
        let (state, detail) = state(account);
        [
            Cow::Borrowed(account.machine.as_str()),
            state.into(),
            detail.into(),
            short_command(advice::conclusion(account).command).into(),
        ]
    });
    output::print(&output::table(&["MACHINE", "STATE", "WHAT", "NEXT"], rows))?;
    let well = accounts.iter().filter(|account| account.is_well()).count();
    let failed = accounts.iter().filter(|account| account.failed.is_some()).count();
    let doubtful = accounts.len() - well - failed;
    output::say(fit!("\n{} well, {} doubtful, {} failed.", well, doubtful, failed));
    Ok(())
}

/// The command to type as a table has room for it: without the remark behind it.
fn short_command(command: String) -> String {
    let command = command.split("   ").next().unwrap_or_default();
    match command.strip_prefix("on the machine's console: ") {
        Some(there) => format!("its console: {there}"),
        None => command.to_owned(),
    }
}

/// The state of a machine in a word or two, and what it is about.
pub(crate) fn state(account: &Account) -> (String, String) {
    let short = |text: &str| {
        let cut: String = text.chars().take(DETAIL_WIDTH).collect();
        if cut.len() < text.len() { format!("{cut}…") } else { cut }
    };
    match account.failed_line() {
        Some(line) => {
            let at = line.gateway.as_ref().map(|gateway| format!(" of {gateway}")).unwrap_or_default();
            (format!("FAILED {}{at}", line.stage.name()), short(&line.saw))
        }
        None if account.is_well() => {
            let login = account.lines.iter().rev().find(|line| line.stage == Stage::Shell);
            ("ok".into(), login.map(|line| short(&line.saw)).unwrap_or_default())
        }
        None => {
            let doubt = account.doubts().next();
            ("doubt".into(), doubt.map(|line| short(&line.saw)).unwrap_or_default())
        }
    }
}

/// Everything as JSON: a list, whatever the number of machines.
pub(crate) fn print_json(accounts: &[Account]) -> Result<(), Failure> {
    let values: Vec<Value> = accounts.iter().map(account_json).collect();
    output::print_json(&values)
}

fn account_json(account: &Account) -> Value {
    let lines = account.lines.iter().map(|line| {
        json!({
            "step": line.stage.name(), "gateway": line.gateway, "state": word(line.mark).to_lowercase(),
            "saw": line.saw, "milliseconds": line.took.map(|took| (took.as_secs_f64() * 1e6).round() / 1e3),
            "advice": advice::of_line(line, account),
        })
    });
    let end = advice::conclusion(account);
    json!({
        "machine": account.machine,
        "address": account.place,
        "state": if account.failed.is_some() { "failed" } else if account.is_well() { "ok" } else { "doubt" },
        "failed_step": account.failed.as_ref().map(|failed| failed.stage.name()),
        "exit_code": rank(account).1,
        "sentence": end.sentence,
        "next": end.command,
        "steps": lines.collect::<Vec<Value>>(),
    })
}
