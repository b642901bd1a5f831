//! The report of `lantern key audit`: what is wrong in words, each with the command that mends it.

use std::path::PathBuf;

use lantern_operations::key_audit::{KeyAudit, Level, Problem, PublicPlace, Standing, Subject, Unseen};
use serde_json::{Value, json};

use crate::screen::failure::Failure;
use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use lantern_operations::quoted;

/// What is wrong, in two or three words.
pub(crate) fn short(problem: &Problem) -> &'static str {
    match problem {
        Problem::Broken { .. } => "broken",
        Problem::Gone => "private file gone",
        Problem::Exposed { .. } => "others can read it",
        Problem::NoPassphrase => "no passphrase",
        Problem::WeakProtection { .. } => "weak protection",
        Problem::WeakAlgorithm { .. } => "weak algorithm",
        Problem::Misplaced(_) => "private where public belongs",
        Problem::ShortKey { .. } => "short key",
        Problem::Old { .. } => "old",
        Problem::Replaced { .. } => "replaced",
        Problem::Unused => "unused",
        Problem::OtherHalf { .. } => "another key's public half",
        Problem::Foreign { .. } => "a private key of another form",
        Problem::Duplicate { .. } => "duplicate",
        Problem::Unreadable { .. } => "unreadable",
    }
}

/// What is wrong, in a sentence.
pub(crate) fn detail(problem: &Problem) -> String {
    match problem {
        Problem::Broken { why } | Problem::Unreadable { why } | Problem::WeakAlgorithm { why } => why.clone(),
        Problem::Gone => "only its public half is left".into(),
        Problem::Exposed { mode } => format!("others on this computer can read it (mode {mode:04o})"),
        Problem::NoPassphrase => "it has no passphrase: whoever reads the file can use it".into(),
        Problem::WeakProtection { how } => format!("a stolen copy is quickly searched: {how}"),
        Problem::Misplaced(PublicPlace::PublicFile) => {
            "a private key stands in a file whose name says that it is public".into()
        }
        Problem::Misplaced(PublicPlace::LoginList) => {
            "a private key stands in a list of the keys that may log in".into()
        }
        Problem::ShortKey { what } => format!("{what} is on its way out (NIST SP 800-57: until 2030)"),
        Problem::Old { days } => format!("it is older than {days} days"),
        Problem::Replaced { by, in_use } if in_use.is_empty() => {
            format!("{by} takes its place, and it is still in the ring")
        }
        Problem::Replaced { by, in_use } => {
            format!("{by} is to take its place, and it is still in use on {}", in_use.join(", "))
        }
        Problem::OtherHalf { public } => format!("{} is the public half of another key", public.display()),
        Problem::Foreign { what, why, is_open: true } => {
            format!("it is {what}, and whoever reads the file can use it; {why}")
        }
        Problem::Foreign { what, why, is_open: false } => format!("it is {what}; {why}"),
        Problem::Unused => "no machine in the book names it, and lantern installed it nowhere".into(),
        Problem::Duplicate { others, .. } => format!("the same key: {}", others.join(", ")),
    }
}

/// The command that mends it, or a first step to it. Removal is advised for nothing but a spare copy: byte for byte another file that stays.
/// `--move` removes a file itself, once the same key is in the ring and has been opened there.
pub(crate) fn mend(problem: &Problem, subject: &Subject) -> String {
    let (name, file) = (&subject.name, quoted(&subject.path));
    let is_in_ring = subject.standing == Standing::InRing;
    let is_spare =
        subject.problems.iter().any(|problem| matches!(problem, Problem::Duplicate { is_spare: true, .. }));
    let take_in = || match (is_spare, subject.is_alone) {
        (true, _) => format!("rm {file}"),
        (false, true) => format!("lantern key import {file} --move"),
        (false, false) => format!("lantern key import {file}"),
    };
    match problem {
        Problem::Exposed { .. } => format!("chmod 600 {file}"),
        Problem::Gone => format!("put a copy back at {file}, or: lantern key remove {name}"),
        Problem::Broken { .. } if is_in_ring => format!("put a good copy in the place of {file}"),
        Problem::Broken { .. } => format!("lantern key show {file}"),
        Problem::Replaced { in_use, .. } if is_in_ring && !in_use.is_empty() => {
            format!("lantern key rotate {name} {}", in_use.join(" "))
        }
        Problem::Replaced { .. } | Problem::Unused if is_in_ring => {
            format!("lantern key remove {name} --plan")
        }
        Problem::Replaced { .. } | Problem::Unused => format!("lantern key show {file}"),
        Problem::NoPassphrase | Problem::WeakProtection { .. } if is_in_ring => {
            format!("lantern key passphrase {name}")
        }
        Problem::ShortKey { .. } | Problem::Old { .. } if is_in_ring => {
            format!("lantern key rotate {name} SELECTION")
        }
        Problem::WeakAlgorithm { .. } | Problem::ShortKey { .. } | Problem::Old { .. } => {
            "lantern key new NAME".into()
        }
        Problem::Duplicate { .. } if is_in_ring => format!("lantern key show {name}"),
        // The ring has the key already: without --move there would be nothing to do.
        Problem::Duplicate { in_ring: true, .. } if !subject.is_alone => format!("lantern key show {file}"),
        Problem::NoPassphrase
        | Problem::WeakProtection { .. }
        | Problem::Misplaced(_)
        | Problem::Duplicate { .. } => take_in(),
        Problem::OtherHalf { public } => format!("lantern key show {}", quoted(public)),
        Problem::Foreign { .. } => format!("lantern key show {file}"),
        Problem::Unreadable { .. } => "look at it as its owner".into(),
    }
}

/// Prints what was found.
///
/// # Errors
/// As [`output::print`].
pub(crate) fn print(audit: &KeyAudit, json: bool) -> Result<(), Failure> {
    let KeyAudit { looked_at, subjects, unseen } = audit;
    let looked_at = *looked_at;
    if json {
        let values: Vec<Value> = subjects.iter().map(to_json).collect();
        let unseen: Vec<Value> = unseen
            .iter()
            .map(|(path, why)| json!({ "file": path, "kind": unseen_kind(why), "detail": unseen_in_words(why) }))
            .collect();
        return output::print_json(
            &json!({ "looked_at": looked_at, "found": values, "not_looked_at": unseen }),
        );
    }
    say_unseen(unseen);
    if subjects.is_empty() {
        output::say(format!(
            "Looked at {}: nothing to mend.",
            counted(looked_at, "key or file", "keys and files")
        ));
        return Ok(());
    }
    let style = if output::colorful_stdout() { ("\x1b[1m", "\x1b[0m") } else { ("", "") };
    let (bold, plain) = (Fit::literal(style.0), Fit::literal(style.1));
    let mut text = Fit::default();
    for subject in subjects {
        let key = subject.key.as_ref().map(|key| format!("  {} {}", key.describe(), key.fingerprint()));
        text.push(fit!("{}{}{}{}\n", bold, subject.name, plain, key.unwrap_or_default()));
        // What one command mends stands together, above it.
        let mut mends: Vec<(String, Fit)> = Vec::new();
        for problem in &subject.problems {
            let command = mend(problem, subject);
            let line = fit!("  {} {}\n", mark(problem.level()), detail(problem));
            match mends.iter_mut().find(|(known, _)| *known == command) {
                Some((_, lines)) => lines.push(line),
                None => mends.push((command, line)),
            }
        }
        for (command, lines) in mends {
            text.push(fit!("{}      → {}\n", lines, command));
        }
        text.end_line();
    }
    let all = || subjects.iter().flat_map(|subject| &subject.problems);
    let count = |level| all().filter(|problem: &&Problem| problem.level() == level).count();
    text.push(fit!(
        "{} looked at; {} serious, {} minor.\n",
        counted(looked_at, "key or file", "keys and files"),
        count(Level::Serious),
        count(Level::Minor)
    ));
    output::print(&text)
}

/// A name for scripts.
fn unseen_kind(why: &Unseen) -> &'static str {
    match why {
        Unseen::Refused(_) => "refused",
        Unseen::TooLarge => "too-large",
        Unseen::NotAFile(_) => "not-a-file",
    }
}

fn unseen_in_words(why: &Unseen) -> String {
    match why {
        Unseen::Refused(error) => error.to_string(),
        Unseen::TooLarge => "larger than any key".into(),
        Unseen::NotAFile(kind) => (*kind).to_owned(),
    }
}

/// What was not looked at: each refusal, and the rest by their number with the first of each.
fn say_unseen(unseen: &[(PathBuf, Unseen)]) {
    let mut kinds: Vec<(String, Vec<&PathBuf>)> = Vec::new();
    for (path, why) in unseen {
        let words = unseen_in_words(why);
        match kinds.iter_mut().find(|(known, _)| *known == words) {
            Some((_, paths)) => paths.push(path),
            None => kinds.push((words, vec![path])),
        }
    }
    for (words, paths) in kinds {
        let first = paths.first().map(|path| path.display().to_string()).unwrap_or_default();
        output::warn(&match paths.len() {
            1 => format!("not looked at: {first} ({words})"),
            count => format!("not looked at: {first} and {} more ({words})", count - 1),
        });
    }
}

fn counted(count: usize, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}

/// A sign that can be told apart without color.
fn mark(level: Level) -> Fit {
    Fit::literal(match (level, output::colorful_stdout()) {
        (Level::Serious, true) => "\x1b[1;31m!!\x1b[0m",
        (Level::Serious, false) => "!!",
        (Level::Minor, true) => "\x1b[33m !\x1b[0m",
        (Level::Minor, false) => " !",
    })
}

fn to_json(subject: &Subject) -> Value {
    let problem = |problem: &Problem| {
        json!({
            "kind": problem.kind(),
            "level": match problem.level() { Level::Serious => "serious", Level::Minor => "minor" },
            "detail": detail(problem),
            "mend": mend(problem, subject),
        })
    };
    json!({
        "name": subject.name,
        "file": subject.path,
        "fingerprint": subject.key.as_ref().map(|key| key.fingerprint().to_string()),
        "problems": subject.problems.iter().map(problem).collect::<Vec<_>>(),
    })
}
