//! Everything that is printed: results to standard output, talk to standard error, color only on terminals.

use std::borrow::Cow;
use std::io::{ErrorKind, IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};

use serde::Serialize;
use unicode_width::UnicodeWidthStr;

use crate::failure::{Failure, code};

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
pub(crate) fn print(text: &str) -> Result<(), Failure> {
    print_bytes(text.as_bytes())
}

/// Writes a result that is no text.
///
/// # Errors
/// As [`print`].
pub(crate) fn print_bytes(bytes: &[u8]) -> Result<(), Failure> {
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
    print(&format!("{text}\n"))
}

/// Whether only results and errors are wanted.
pub(crate) fn is_quiet() -> bool {
    QUIET.load(Ordering::Relaxed)
}

/// Talk: what is going on, for a person. Lost when nobody listens.
pub(crate) fn say(text: &str) {
    if !QUIET.load(Ordering::Relaxed) {
        let _ = writeln!(std::io::stderr(), "{text}");
    }
}

/// A warning: said even when quiet.
pub(crate) fn warn(text: &str) {
    let mark = if colorful_stderr() { "\x1b[33mnote\x1b[0m" } else { "note" };
    let _ = writeln!(std::io::stderr(), "{mark}: {text}");
}

/// Tells a failure.
pub(crate) fn complain(failure: &Failure) {
    let color = colorful_stderr();
    let (mark, arrow) =
        if color { ("\x1b[1;31merror\x1b[0m", "\x1b[36m→\x1b[0m") } else { ("error", "→") };
    let mut text = format!("{mark}: {}\n", failure.headline);
    for detail in &failure.details {
        text.push_str(&format!("  {detail}\n"));
    }
    for hint in &failure.hints {
        text.push_str(&format!("  {arrow} {hint}\n"));
    }
    let _ = std::io::stderr().write_all(text.as_bytes());
}

/// Columns, aligned, under a heading; wide characters count as two. The last column is not padded.
pub(crate) fn table<'a, R: AsRef<[Cow<'a, str>]>>(
    heading: &[&'a str],
    rows: impl IntoIterator<Item = R>,
) -> String {
    let rows: Vec<R> = rows.into_iter().collect();
    let mut widths: Vec<usize> = heading.iter().map(|cell| width(cell)).collect();
    for row in &rows {
        for (widest, cell) in widths.iter_mut().zip(row.as_ref()) {
            *widest = (*widest).max(width(cell));
        }
    }
    let style = if colorful_stdout() { ("\x1b[1m", "\x1b[0m") } else { ("", "") };
    let mut out =
        String::with_capacity((rows.len() + 1) * (widths.iter().sum::<usize>() + 2 * widths.len() + 2));
    out.push_str(style.0);
    put_row(&mut out, heading.iter().copied(), &widths);
    out.push_str(style.1);
    out.push('\n');
    for row in &rows {
        put_row(&mut out, row.as_ref().iter().map(Cow::as_ref), &widths);
        out.push('\n');
    }
    out
}

fn put_row<'c>(out: &mut String, cells: impl Iterator<Item = &'c str>, widths: &[usize]) {
    for (cell, widest) in cells.zip(widths) {
        out.push_str(cell);
        out.extend(std::iter::repeat_n(' ', widest + 2 - width(cell)));
    }
    out.truncate(out.trim_end_matches(' ').len());
}

/// Cells on a terminal. Most text is plain and needs no tables to be measured.
fn width(text: &str) -> usize {
    if text.bytes().all(|byte| (0x20..0x7f).contains(&byte)) { text.len() } else { text.width() }
}

/// Name and value pairs, aligned, one a line.
pub(crate) fn fields(pairs: &[(&str, String)]) -> String {
    let width = pairs.iter().map(|(name, _)| name.width()).max().unwrap_or(0);
    let line = |(name, value): &(&str, String)| {
        let indented = value.replace('\n', &format!("\n{}", " ".repeat(width + 2)));
        format!("{name}{}  {indented}\n", " ".repeat(width - name.width()))
    };
    // A name without a value says nothing; a value without a name goes with the one above.
    pairs.iter().filter(|(_, value)| !value.is_empty()).map(line).collect()
}

/// A block that must be seen before a question, even when quiet.
pub(crate) fn warn_block(text: &str) {
    let _ = writeln!(std::io::stderr(), "{text}");
}

/// A question that is answered on standard input.
pub(crate) fn ask_aloud(text: &str) {
    let _ = write!(std::io::stderr(), "{text}").and_then(|()| std::io::stderr().flush());
}
