//! What a pipeline says besides its output: errors, warnings, how far it is.

use std::time::{Duration, Instant};

use lantern_winrm::remoting::{Colour, ErrorRecord, Objects, Progress, Record, Value};
use serde_json::json;

use crate::screen::fit::{Fit, fit};
use crate::screen::table::{put_cut, width};
use crate::screen::wrap::has_all_characters;

/// A record as words; nothing, where it is not for people who did not ask for it. The machine's name stands before each line: it must not pass for one of ours.
pub(crate) fn words(machine: &str, record: &Record, color: bool) -> Option<Fit> {
    let marked = |style: &'static str, kind: &'static str, text: &str| {
        let (style, end) = if color { (style, "\x1b[0m") } else { ("", "") };
        let mut lines = text.lines();
        let first = lines.next().unwrap_or_default();
        let mut out = fit!(
            "[{}] {}{}{}: {}",
            machine,
            Fit::literal(style),
            Fit::literal(kind),
            Fit::literal(end),
            first
        );
        for line in lines.filter(|line| !line.trim().is_empty()) {
            out.end_line();
            out.push(fit!("[{}]   {}", machine, line));
        }
        out
    };
    Some(match record {
        Record::Error(error) => {
            let mut out = marked("\x1b[1;31m", "error", &error.message);
            out.end_line();
            out.push(fit!("[{}]   {}", machine, about(error)));
            if let Some(advice) = &error.advice {
                out.end_line();
                out.push(fit!("[{}]   {}", machine, advice.as_str()));
            }
            out
        }
        Record::Warning(text) => marked("\x1b[33m", "warning", text),
        Record::Verbose(text) => marked("\x1b[2m", "more", text),
        Record::Debug(text) => marked("\x1b[2m", "debug", text),
        // What was shown to the terminal already is not shown twice.
        Record::Information(said) if said.is_shown() => return None,
        Record::Information(said) => fit!("[{}] {}", machine, said.message.as_str()),
        Record::Progress(_) => return None,
    })
}

/// The kind of an error, and where it happened.
fn about(error: &ErrorRecord) -> String {
    let mut text = error.category.to_owned();
    if !error.target.is_empty() && !error.message.contains(&error.target) {
        text.push_str(&format!(" ({})", error.target));
    }
    if !error.id.is_empty() && error.id != error.message {
        text.push_str(&format!(", {}", error.id));
    }
    if let Some(place) = &error.place {
        let script = place.script.as_ref().map(|script| format!("{script}, ")).unwrap_or_default();
        let column = if place.column > 0 { format!(", column {}", place.column) } else { String::new() };
        text.push_str(&format!("; {script}line {}{column}: {}", place.line, place.text.trim()));
    }
    text
}

/// A record as JSON.
pub(crate) fn json(record: &Record) -> serde_json::Value {
    match record {
        Record::Error(error) => error_json(error, false),
        Record::Warning(text) => json!({ "record": "warning", "message": text }),
        Record::Verbose(text) => json!({ "record": "verbose", "message": text }),
        Record::Debug(text) => json!({ "record": "debug", "message": text }),
        Record::Information(said) => {
            json!({ "record": "information", "message": said.message, "tags": said.tags })
        }
        Record::Progress(progress) => json!({
            "record": "progress",
            "activity": progress.activity,
            "status": progress.status,
            "operation": progress.operation,
            "percent": progress.percent,
            "seconds_left": progress.seconds_left,
            "over": progress.is_over,
        }),
    }
}

/// An error as JSON; `is_end`: it ended the pipeline.
pub(crate) fn error_json(error: &ErrorRecord, is_end: bool) -> serde_json::Value {
    json!({
        "record": "error",
        "message": error.message,
        "category": error.category,
        "id": error.id,
        "target": error.target,
        "activity": error.activity,
        "reason": error.reason,
        "advice": error.advice,
        "position": error.place.as_ref().map(|place| json!({
            "script": place.script,
            "line": place.line,
            "column": place.column,
            "text": place.text,
        })),
        "terminating": is_end,
    })
}

/// The colours of a console, in the order of their numbers, as a terminal has them.
pub(crate) fn colored(colour: Colour) -> String {
    const CODES: [u8; 16] = [30, 34, 32, 36, 31, 35, 33, 37, 90, 94, 92, 96, 91, 95, 93, 97];
    let code = CODES.get(usize::from(colour)).copied().unwrap_or(39);
    format!("\x1b[{code}m")
}

/// Nothing is shown before this, and nothing more often than [`PACE`].
const PATIENCE: Duration = Duration::from_millis(300);
const PACE: Duration = Duration::from_millis(100);
/// How wide the bar is, in columns.
const BAR: usize = 16;

/// A line on a terminal that says how far a pipeline is.
#[derive(Debug)]
pub(crate) struct ProgressLine {
    since: Option<Instant>,
    drawn: Option<Instant>,
    is_shown: bool,
    latest: Option<Progress>,
}

impl ProgressLine {
    pub(crate) fn new() -> Self {
        Self { since: None, drawn: None, is_shown: false, latest: None }
    }

    /// Takes what was told; what is to be written for it now.
    pub(crate) fn take(&mut self, progress: &Progress, machine: &str, columns: usize) -> String {
        if progress.is_over {
            // The one that goes on within another is not the whole.
            if self.latest.as_ref().is_none_or(|latest| latest.number == progress.number) {
                (self.since, self.latest) = (None, None);
                return self.clear();
            }
            return String::new();
        }
        let since = *self.since.get_or_insert_with(Instant::now);
        self.latest = Some(progress.clone());
        let due = self.drawn.is_none_or(|drawn| drawn.elapsed() >= PACE);
        match since.elapsed() >= PATIENCE && due {
            true => self.draw(machine, columns),
            false => String::new(),
        }
    }

    /// Draws it again, below what was written.
    pub(crate) fn draw(&mut self, machine: &str, columns: usize) -> String {
        let Some(progress) = &self.latest else { return String::new() };
        (self.drawn, self.is_shown) = (Some(Instant::now()), true);
        format!("\r\x1b[K{}", line(progress, machine, columns))
    }

    /// Takes it away.
    pub(crate) fn clear(&mut self) -> String {
        match std::mem::take(&mut self.is_shown) {
            true => "\r\x1b[K".to_owned(),
            false => String::new(),
        }
    }
}

fn line(progress: &Progress, machine: &str, columns: usize) -> String {
    let mut parts = vec![progress.activity.as_str()];
    parts.extend(
        [progress.status.as_str(), progress.operation.as_str()].into_iter().filter(|part| !part.is_empty()),
    );
    let mut end = String::new();
    if let Some(percent) = progress.percent {
        let full = usize::from(percent.min(100)) * BAR / 100;
        let (done, left) = if has_all_characters() { ("█", "░") } else { ("#", "-") };
        end.push_str(&format!("  {}{} {percent:3} %", done.repeat(full), left.repeat(BAR - full)));
    }
    if let Some(seconds) = progress.seconds_left {
        end.push_str(&format!(", {seconds} s left"));
    }
    let text = format!("[{machine}] {}", Fit::line(&parts.join(": ")));
    // One line, whatever the machine says: the last column stays free.
    let room = columns.saturating_sub(1);
    let (mut out, for_text) = (String::new(), room.saturating_sub(width(&end)).max(8));
    match width(&text) <= for_text {
        true => out.push_str(&text),
        false => drop(put_cut(&mut out, &text, for_text)),
    }
    if width(&out) + width(&end) <= room {
        out.push_str(&end);
    }
    out
}

/// Objects in columns of ours, where the machine does not format them: rows as they come, as wide as the first ones need.
#[derive(Debug, Default)]
pub(crate) struct ObjectTable {
    rows: Vec<Vec<String>>,
    names: Vec<String>,
}

/// Rows that are looked at for the widths of columns.
const MOST_ROWS: usize = 500;

impl ObjectTable {
    /// Takes an object; what is to be printed before it has a place.
    pub(crate) fn take(&mut self, objects: &Objects, value: &Value) -> Option<Fit> {
        let object =
            objects.of(value).filter(|object| !object.properties.is_empty() || !object.members.is_empty());
        let Some(object) = object else {
            let mut before = self.end().unwrap_or_default();
            before.push(Fit::lines(&objects.plain_text(value)));
            before.end_line();
            return Some(before);
        };
        let all: Vec<_> = object.properties.iter().chain(&object.members).collect();
        let names: Vec<String> = all.iter().map(|(name, _)| name.clone()).collect();
        let before = (names != self.names || self.rows.len() >= MOST_ROWS).then(|| self.end()).flatten();
        self.names = names;
        self.rows.push(all.iter().map(|(_, value)| objects.plain_text(value)).collect());
        before
    }

    /// What is left to be printed.
    pub(crate) fn end(&mut self) -> Option<Fit> {
        if self.rows.is_empty() {
            return None;
        }
        let heading: Vec<&str> = self.names.iter().map(String::as_str).collect();
        let rows = std::mem::take(&mut self.rows);
        let rows: Vec<Vec<std::borrow::Cow<'_, str>>> =
            rows.iter().map(|row| row.iter().map(|cell| Fit::cell(cell)).collect()).collect();
        Some(crate::screen::output::table(&heading, rows))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lantern_winrm::remoting::Place;

    fn error() -> ErrorRecord {
        ErrorRecord {
            message: "There is nothing called 'nobody'.\nreally\x1b[2J".into(),
            id: "NameNotFound".into(),
            category: "ObjectNotFound",
            place: Some(Place { script: None, line: 2, column: 3, text: "  Get-Lamp nobody".into() }),
            ..ErrorRecord::default()
        }
    }

    #[test]
    fn an_error_says_what_it_is_and_where_and_steers_nothing() {
        let text = words("chart-room", &Record::Error(Box::new(error())), false).map(|fit| fit.to_string());
        assert_eq!(
            text.as_deref(),
            Some(
                "[chart-room] error: There is nothing called 'nobody'.\n[chart-room]   really␛[2J\n\
                 [chart-room]   ObjectNotFound, NameNotFound; line 2, column 3: Get-Lamp nobody"
            )
        );
        let json = json(&Record::Error(Box::new(error())));
        assert_eq!((&json["position"]["line"], &json["category"]), (&2.into(), &"ObjectNotFound".into()));
    }

    #[test]
    fn a_line_of_progress_stays_one_line_in_any_terminal() {
        let progress = Progress {
            activity: "Counting\nlamps \x1b[31m".into(),
            status: "the tower, the pier and the old quay".into(),
            percent: Some(40),
            seconds_left: Some(12),
            ..Progress::default()
        };
        for columns in [1, 10, 40, 80, 200] {
            let line = line(&progress, "chart-room", columns);
            assert!(width(&line) < columns.max(10), "{columns}: {line:?}");
            assert!(!line.contains(['\n', '\x1b']));
        }
        assert!(line(&progress, "chart-room", 120).ends_with(" 40 %, 12 s left"));
    }
}
