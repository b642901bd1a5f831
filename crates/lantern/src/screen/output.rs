//! Everything that is printed: results to standard output, talk to standard error, color only on terminals.

use std::borrow::Cow;
use std::io::{ErrorKind, IsTerminal, Write};
use std::path::Path;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use lantern_ssh::is_invisible;
use serde::Serialize;

use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::plan::Planned;
use crate::screen::table::{self, Place, width};
use crate::screen::wrap::{self, fitted};

static QUIET: AtomicBool = AtomicBool::new(false);

/// Silences [`say`].
pub(crate) fn be_quiet() {
    QUIET.store(true, Ordering::Relaxed);
}

/// Whether colors go to this stream: a terminal, and nothing in the environment against it (no-color.org).
fn colorful(stream: &impl IsTerminal) -> bool {
    let set = |name| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    stream.is_terminal() && !set("NO_COLOR") && std::env::var_os("TERM").is_none_or(|term| term != "dumb")
}

/// Whether standard output shows colors.
pub(crate) fn colorful_stdout() -> bool {
    colorful(&std::io::stdout())
}

/// Whether standard error shows colors.
pub(crate) fn colorful_stderr() -> bool {
    colorful(&std::io::stderr())
}

/// Writes a result.
///
/// # Errors
/// Quietly when the reader has gone; else with what the system says, such as a full disk.
pub(crate) fn print(text: &Fit) -> Result<(), Failure> {
    print_bytes(fitted(text.as_str(), wrap::width(&std::io::stdout())).as_bytes())
}

/// Writes a result that other programs read: as it is, but on a terminal, where it is only looked at.
///
/// # Errors
/// As [`print`].
pub(crate) fn print_raw(text: &[u8]) -> Result<(), Failure> {
    match stdout_is_terminal() {
        // Not wrapped: it is there to be copied.
        true => print_bytes(Fit::lines(&String::from_utf8_lossy(text)).as_str().as_bytes()),
        false => print_bytes(text),
    }
}

fn print_bytes(bytes: &[u8]) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.flush()).map_err(|error| match error.kind() {
        // The reader had enough: as good as success.
        ErrorKind::BrokenPipe => Failure::quiet(0),
        _ => Failure::new(code::LOCAL, format!("cannot write the result: {error}")),
    })
}

/// Writes a result as JSON.
///
/// # Errors
/// As [`print`].
pub(crate) fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value)
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot write JSON: {error}")))?;
    print_bytes(format!("{}\n", visible_json(&text)).as_bytes())
}

/// Writes a result as JSON on one line: one of several that come as things happen.
///
/// # Errors
/// As [`print`].
pub(crate) fn print_json_line(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string(value)
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot write JSON: {error}")))?;
    print_bytes(format!("{}\n", visible_json(&text)).as_bytes())
}

/// JSON that shows everything that is in it: what nobody sees stands there by its number, as controls do anyway (RFC 8259 §7).
pub(crate) fn visible_json(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match is_invisible(c) || c == '\x7f' {
            true => {
                c.encode_utf16(&mut [0; 2]).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
            }
            false => out.push(c),
        }
    }
    out
}

/// Whether only results and errors are wanted.
pub(crate) fn is_quiet() -> bool {
    QUIET.load(Ordering::Relaxed)
}

/// Talk: what is going on, for a person. Lost when nobody listens.
pub(crate) fn say(text: impl Into<Fit>) {
    if !QUIET.load(Ordering::Relaxed) {
        talk(&format!("{}\n", text.into()));
    }
}

/// Lost when nobody listens.
fn talk(text: &str) {
    let mut out = std::io::stderr();
    let _ = out.write_all(fitted(text, wrap::width(&out)).as_bytes());
}

/// A warning: said even when quiet.
pub(crate) fn warn(text: impl Into<Fit>) {
    let mark = if colorful_stderr() { "\x1b[33mnote\x1b[0m" } else { "note" };
    talk(&format!("{mark}: {}\n", text.into()));
}

static JSON_ERRORS: OnceLock<String> = OnceLock::new();

/// From now on failures are told as JSON; `attempted` is the command.
pub(crate) fn complain_as_json(attempted: String) {
    let _ = JSON_ERRORS.set(attempted);
}

/// Tells what failed on one of several machines; which one is said, where the failure does not begin with it by itself.
pub(crate) fn complain_of(machine: &str, failure: &Failure) {
    let mut of_one = failure.clone();
    if !failure.headline.split_whitespace().any(|word| word.trim_end_matches([':', ',']) == machine) {
        of_one.headline = format!("{machine}: {}", failure.headline);
    }
    complain(&of_one);
}

/// Tells a failure.
pub(crate) fn complain(failure: &Failure) {
    if let Some(attempted) = JSON_ERRORS.get() {
        let value = serde_json::json!({ "error": {
            "code": failure.code, "step": code::step(failure.code), "attempted": attempted,
            "met": failure.headline, "details": failure.details, "next": failure.hints,
        }});
        let text = serde_json::to_string(&value).unwrap_or_default();
        let _ = writeln!(std::io::stderr(), "{}", visible_json(&text));
        return;
    }
    let color = colorful_stderr();
    let (mark, arrow) =
        if color { ("\x1b[1;31merror\x1b[0m", "\x1b[36m→\x1b[0m") } else { ("error", "→") };
    let mut text = format!("{mark}: {}\n", Fit::line(&failure.headline));
    for detail in &failure.details {
        text.push_str(&format!("  {}\n", Fit::line(detail)));
    }
    for hint in &failure.hints {
        text.push_str(&format!("  {arrow} {}\n", Fit::line(hint)));
    }
    talk(&text);
}

/// Columns under a heading, for standard output.
pub(crate) fn table<'a, R: AsRef<[Cow<'a, str>]>>(
    heading: &[&'a str],
    rows: impl IntoIterator<Item = R>,
) -> Fit {
    let place = Place { width: wrap::width(&std::io::stdout()), color: colorful_stdout() };
    table::draw(Some(heading), rows, &place)
}

/// Name and value pairs, aligned, one a line.
pub(crate) fn fields(pairs: &[(&str, Fit)]) -> Fit {
    let widest = pairs.iter().map(|(name, _)| width(name)).max().unwrap_or(0);
    let line = |(name, value): &(&str, Fit)| {
        let indented = value.as_str().replace('\n', &format!("\n{}", " ".repeat(widest + 2)));
        format!("{name}{}  {indented}\n", " ".repeat(widest - width(name)))
    };
    // A name without a value says nothing; a value without a name goes with the one above.
    Fit::picture(pairs.iter().filter(|(_, value)| !value.as_str().is_empty()).map(line).collect())
}

/// Whether a path names the standard output.
pub(crate) fn is_stdout(path: &Path) -> bool {
    ["-", "/dev/stdout", "/dev/fd/1", "/proc/self/fd/1"].iter().any(|name| path == Path::new(name))
}

/// Whether standard output goes to a terminal.
pub(crate) fn stdout_is_terminal() -> bool {
    std::io::stdout().is_terminal()
}

/// A block that must be seen before a question, even when quiet.
pub(crate) fn warn_block(text: impl Into<Fit>) {
    talk(&format!("{}\n", text.into()));
}

/// What has changed, in columns.
///
/// # Errors
/// None: it is talk.
pub(crate) fn tell_changes(changes: &[Planned]) -> Result<(), Failure> {
    if is_quiet() { Ok(()) } else { plan(changes, false) }
}

/// What would change, in columns: the result of `--plan`, and what is asked about otherwise.
pub(crate) fn plan(changes: &[Planned], is_result: bool) -> Result<(), Failure> {
    let rows = changes.iter().map(|change| {
        [
            Cow::Borrowed(change.what),
            Cow::Borrowed(change.name.as_str()),
            Cow::Borrowed(change.about.as_str()),
            Cow::Borrowed(change.detail.as_str()),
        ]
    });
    let width = match is_result {
        true => wrap::width(&std::io::stdout()),
        false => wrap::width(&std::io::stderr()),
    };
    let text = table::draw(None, rows, &Place { width, color: false });
    match is_result {
        true => print(&text),
        false => {
            talk(text.as_str());
            Ok(())
        }
    }
}

/// A question that is answered on standard input.
pub(crate) fn ask_aloud(text: &Fit) {
    let _ = write!(std::io::stderr(), "{text}").and_then(|()| std::io::stderr().flush());
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    fn cells<'a>(rows: &[[&'a str; 2]]) -> Vec<[Cow<'a, str>; 2]> {
        rows.iter().map(|row| row.map(Cow::Borrowed)).collect()
    }

    /// Nothing that came from a file or a machine steers the terminal, moves to another line, or hides.
    #[test]
    fn what_is_printed_is_fit_to_be() {
        for hostile in
            ["a\x1b[2J\x07b", "a\nerror: b", "a\u{9b}1mb", "a\u{202e}b\u{e0041}", "a\u{2028}b\tc\r"]
        {
            let cell = table(&["X", "Y"], cells(&[[hostile, "end"]])).to_string();
            assert_eq!(cell.lines().count(), 2, "{cell:?}");
            let field = fields(&[("name", Fit::from(hostile))]).to_string();
            let json = visible_json(&serde_json::to_string(hostile).unwrap());
            assert_eq!(serde_json::from_str::<String>(&json).unwrap(), hostile);
            for text in [cell, field, json, Fit::line(hostile).to_string()] {
                let good = |c: char| c == '\n' || !c.is_control() && !is_invisible(c);
                assert!(text.chars().all(good), "{text:?}");
            }
        }
    }

    #[test]
    fn fields_without_a_value_are_left_out_and_lines_go_on_below_their_value() {
        let text = fields(&[
            ("key", "harbour".into()),
            ("note", Fit::default()),
            ("", Fit::literal("one\ntwo")),
            ("private", "x".into()),
        ]);
        assert_eq!(text.as_str(), "key      harbour\n         one\n         two\nprivate  x\n");
    }
}
