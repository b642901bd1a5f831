//! What came of a copy.

use std::collections::BTreeMap;

use lantern_operations::copy::{CopyFault, Left, Report};
use lantern_operations::counted;
use lantern_operations::files::FileFault;
use serde_json::{Value, json};

use super::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::size::bytes;

/// Names and failures that are told one by one.
const MOST_TOLD: usize = 10;
/// Exit code where something is not there that was to be.
const INCOMPLETE: u8 = 1;

/// Why something was left out: the word for scripts, the words for people, and whether the copy lacks it.
pub(crate) fn reason(left: Left) -> (&'static str, &'static str, bool) {
    match left {
        Left::Same => ("same", "there already", false),
        Left::Newer => ("newer", "what is there was changed later: --replace-newer replaces it", true),
        Left::Existing => ("existing", "something is there, and --keep-existing keeps it", false),
        Left::Special => ("special", "no file, folder or link", false),
        Left::LeadsOut => ("leads-out", "a link that leads out of what is copied", true),
        Left::Circle => ("circle", "a link to a folder that it is in", false),
        Left::Dangling => ("dangling", "a link that leads nowhere", false),
        Left::OtherKind => ("other-kind", "what is there is of another kind, and is not replaced", true),
    }
}

/// Whether the stream that is written to has nobody at its other end.
pub(crate) fn reader_is_gone(fault: &CopyFault) -> bool {
    matches!(fault, CopyFault::File(FileFault::Here { error, .. }) if error.kind() == std::io::ErrorKind::BrokenPipe)
}

/// Tells what came of all jobs; the exit status.
///
/// # Errors
/// What failed on the only one; nobody reads it.
pub(crate) fn tell(outcomes: &[(String, Result<Report, Failure>)], json: bool) -> Result<u8, Failure> {
    let several = outcomes.len() > 1;
    let mut status = 0;
    for (label, outcome) in outcomes {
        let code = match outcome {
            Ok(report) if json => as_json(label, report)?,
            Ok(report) => as_words(label, report, several),
            Err(failure) if !several => return Err(failure.clone()),
            Err(failure) => {
                output::complain_of(label, failure);
                failure.code
            }
        };
        status = status.max(code);
    }
    Ok(status)
}

fn code_of(report: &Report) -> u8 {
    if let Some(ended) = &report.ended {
        return Failure::from(ended).code;
    }
    if report.stopped {
        return code::INTERRUPTED;
    }
    let lacks = report.left.iter().any(|(_, left)| reason(*left).2);
    if lacks || !report.failed.is_empty() { INCOMPLETE } else { 0 }
}

fn as_json(label: &str, report: &Report) -> Result<u8, Failure> {
    for (path, left) in &report.left {
        output::print_json_line(&json!({
            "event": "left", "machine": label, "path": shown(path), "reason": reason(*left).0,
        }))?;
    }
    for (path, fault) in &report.failed {
        output::print_json_line(&json!({
            "event": "failed", "machine": label, "path": shown(path), "met": fault.to_string(),
        }))?;
    }
    let paths = |paths: &[Vec<u8>]| paths.iter().map(|path| shown(path).into_owned()).collect::<Vec<_>>();
    let kept = report.kept.iter().map(|(path, len)| json!({ "path": shown(path), "bytes": len }));
    output::print_json_line(&json!({
        "event": "end", "machine": label, "copied": report.copied, "bytes": report.bytes,
        "from_before": report.from_before, "holes": report.holes, "verified": report.verified,
        "folders": report.folders, "links": report.links, "removed": report.removed,
        "left": report.left.len() + report.same, "failed": report.failed.len(),
        "changed": paths(&report.changed), "kept": kept.collect::<Vec<Value>>(),
        "ended": report.ended.as_ref().map(ToString::to_string), "code": code_of(report),
    }))?;
    Ok(code_of(report))
}

fn as_words(label: &str, report: &Report, several: bool) -> u8 {
    let front = if several { format!("{label}: ") } else { String::new() };
    output::say(format!("{front}{}", summary(report)));
    let mut by_reason: BTreeMap<Left, Vec<String>> = BTreeMap::new();
    for (path, left) in report.left.iter().filter(|(_, left)| *left != Left::Same) {
        by_reason.entry(*left).or_default().push(shown(path).into_owned());
    }
    for (left, paths) in by_reason {
        output::warn(format!("{front}left out, {}: {}", reason(left).1, some(&paths)));
    }
    if !report.changed.is_empty() {
        let paths: Vec<String> = report.changed.iter().map(|path| shown(path).into_owned()).collect();
        output::warn(format!("{front}changed while it was read: {}", some(&paths)));
    }
    for (path, fault) in report.failed.iter().take(MOST_TOLD) {
        let mut failure = Failure::from(fault);
        let path = shown(path);
        if !failure.headline.contains(&*path) {
            failure.headline = format!("{path}: {}", failure.headline);
        }
        output::complain_of(label, &failure);
    }
    let more = report.failed.len().saturating_sub(MOST_TOLD);
    if more > 0 {
        output::warn(format!("{front}and {} more failed; --json lists them", counted(more, "file")));
    }
    if let Some(ended) = report.ended.as_ref().filter(|_| report.failed.is_empty()) {
        output::complain_of(label, &ended.into());
    }
    for (path, len) in report.kept.iter().take(MOST_TOLD) {
        output::say(format!(
            "{front}{} of {} are there: the same command goes on from there.",
            bytes(*len),
            shown(path)
        ));
    }
    if report.stopped {
        output::say(format!("{front}Stopped before everything was copied."));
    }
    code_of(report)
}

fn summary(report: &Report) -> String {
    let mut parts = Vec::new();
    let mut part = |count: usize, what: &str, verb: &str| {
        if count > 0 {
            parts.push(format!("{} {verb}", counted(count, what)));
        }
    };
    let copied = match about(report) {
        about if about.is_empty() => "copied".to_owned(),
        about => format!("copied ({about})"),
    };
    part(report.copied, "file", &copied);
    part(report.folders, "folder", "made");
    part(report.links, "link", "made");
    part(report.removed, "file or folder", "removed");
    let same = report.same + report.left.iter().filter(|(_, left)| *left == Left::Same).count();
    part(same, "file", "there already");
    match parts.is_empty() {
        true => "Nothing was copied.".to_owned(),
        false => format!("{}.", parts.join(", ")),
    }
}

/// What is to be said of the files that were copied.
fn about(report: &Report) -> String {
    let mut about = Vec::new();
    if report.copied > 0 {
        about.push(bytes(report.bytes));
    }
    if report.from_before > 0 {
        about.push(format!("{} of it there from before", bytes(report.from_before)));
    }
    if report.holes > 0 {
        about.push(format!("{} of it holes", bytes(report.holes)));
    }
    if report.verified > 0 {
        about.push("compared".to_owned());
    }
    about.join(", ")
}

fn some(paths: &[String]) -> String {
    let more = paths.len().saturating_sub(MOST_TOLD);
    let first = paths.iter().take(MOST_TOLD).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{first} and {more} more") } else { first }
}
