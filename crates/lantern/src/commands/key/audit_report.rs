//! The report of `lantern key audit`.

use serde_json::{Value, json};

use super::audit::{Level, Problem, Subject};
use crate::failure::Failure;
use crate::output;

pub(super) fn print(subjects: &[Subject], looked_at: usize, json: bool) -> Result<(), Failure> {
    if json {
        let values: Vec<Value> = subjects.iter().map(to_json).collect();
        return output::print_json(&json!({ "looked_at": looked_at, "found": values }));
    }
    if subjects.is_empty() {
        output::say(&format!(
            "Looked at {}: nothing to mend.",
            counted(looked_at, "key or file", "keys and files")
        ));
        return Ok(());
    }
    let (bold, plain) = if output::colorful_stdout() { ("\x1b[1m", "\x1b[0m") } else { ("", "") };
    let mut text = String::new();
    for subject in subjects {
        let key = subject.key.as_ref().map(|key| format!("  {} {}", key.describe(), key.fingerprint()));
        text.push_str(&format!("{bold}{}{plain}{}\n", subject.name, key.unwrap_or_default()));
        // What one command mends stands together, above it.
        let mut mends: Vec<&str> = Vec::new();
        for problem in &subject.problems {
            if !mends.contains(&problem.mend.as_str()) {
                mends.push(&problem.mend);
            }
        }
        for mend in mends {
            for problem in subject.problems.iter().filter(|problem| problem.mend == mend) {
                text.push_str(&format!("  {} {}\n", mark(problem.level), problem.detail));
            }
            text.push_str(&format!("      → {mend}\n"));
        }
        text.push('\n');
    }
    let all = || subjects.iter().flat_map(|subject| &subject.problems);
    let count = |level| all().filter(|problem: &&Problem| problem.level == level).count();
    text.push_str(&format!(
        "{} looked at; {} serious, {} minor.\n",
        counted(looked_at, "key or file", "keys and files"),
        count(Level::Serious),
        count(Level::Minor)
    ));
    output::print(&text)
}

fn counted(count: usize, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}

/// A sign that can be told apart without color.
fn mark(level: Level) -> &'static str {
    match (level, output::colorful_stdout()) {
        (Level::Serious, true) => "\x1b[1;31m!!\x1b[0m",
        (Level::Serious, false) => "!!",
        (Level::Minor, true) => "\x1b[33m !\x1b[0m",
        (Level::Minor, false) => " !",
    }
}

fn to_json(subject: &Subject) -> Value {
    let problem = |problem: &Problem| {
        json!({
            "kind": problem.kind,
            "level": match problem.level { Level::Serious => "serious", Level::Minor => "minor" },
            "detail": problem.detail,
            "mend": problem.mend,
        })
    };
    json!({
        "name": subject.name,
        "file": subject.path,
        "fingerprint": subject.key.as_ref().map(|key| key.fingerprint().to_string()),
        "problems": subject.problems.iter().map(problem).collect::<Vec<_>>(),
    })
}
