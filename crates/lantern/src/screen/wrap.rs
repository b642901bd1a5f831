//! How text gets onto a terminal: wrapped at words as wide as it is, in the characters that it has. Into a pipe it goes as it is.

use std::io::IsTerminal;
use std::sync::OnceLock;

use rustix::fd::AsFd;
use rustix::termios::tcgetwinsize;
use textwrap::{Options, WordSeparator, WordSplitter, WrapAlgorithm, wrap};
use unicode_width::UnicodeWidthStr;

/// Narrowest terminal that is minded, in cells.
const MIN_WIDTH: usize = 40;
/// Most of a line that is indented below its beginning, as a part of the width.
const MAX_HANG: usize = 2;
/// Stands for a space that no line is broken at.
const FIRM: char = '\u{a0}';

/// The width of the terminal that a stream goes to, in cells; none where it goes elsewhere.
pub(crate) fn width(stream: &(impl IsTerminal + AsFd)) -> Option<usize> {
    if !stream.is_terminal() {
        return None;
    }
    let columns = tcgetwinsize(stream).map_or(0, |size| size.ws_col);
    Some(if columns == 0 { 80 } else { usize::from(columns).max(MIN_WIDTH) })
}

/// The text for a stream.
pub(crate) fn fitted(text: &str, width: Option<usize>) -> String {
    let text = match width {
        Some(width) => wrapped(text, width),
        None => text.to_owned(),
    };
    in_its_characters(text, has_all_characters())
}

/// The text with no line wider than that, as far as its words allow. What goes on in the next line begins below the text: behind a mark, or behind
/// the name of a field. What can be typed, a fingerprint, a path, a command, is in one piece where there is room for it.
pub(crate) fn wrapped(text: &str, width: usize) -> String {
    if text.lines().all(|line| line.len() <= width || shown_width(line) <= width) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len() + 64);
    for line in text.split_inclusive('\n') {
        let (line, end) = line.strip_suffix('\n').map_or((line, ""), |line| (line, "\n"));
        match shown_width(line) <= width {
            true => out.push_str(line),
            false => out.push_str(&wrap_line(line, width)),
        }
        out.push_str(end);
    }
    out
}

fn shown_width(line: &str) -> usize {
    textwrap::core::display_width(line)
}

fn wrap_line(line: &str, width: usize) -> String {
    // A word that is longer than most, a fingerprint, has its room too.
    let longest = without_colors(line).split(' ').map(UnicodeWidthStr::width).max().unwrap_or(0);
    let hang = hang_of(line).min(width / MAX_HANG).min(width.saturating_sub(longest));
    let lead: String = line.chars().take_while(|c| *c == ' ').collect();
    let rest = firm(line.trim_start_matches(' '), width.saturating_sub(hang));
    let below = " ".repeat(hang);
    let options = Options::new(width)
        .initial_indent(&lead)
        .subsequent_indent(&below)
        .break_words(false)
        .word_separator(WordSeparator::AsciiSpace)
        .word_splitter(WordSplitter::NoHyphenation)
        .wrap_algorithm(WrapAlgorithm::FirstFit);
    wrap(&rest, options).join("\n").replace(FIRM, " ")
}

/// How far the lines below are indented: as its text is behind a mark (`error: `, `→ `), or behind the last wide gap of columns.
fn hang_of(line: &str) -> usize {
    let plain = without_colors(line);
    let lead = plain.len() - plain.trim_start_matches(' ').len();
    let rest = plain.get(lead..).unwrap_or_default();
    let at = |bytes: usize| lead + rest.get(..bytes).map_or(0, UnicodeWidthStr::width);
    if let Some(gap) = rest.rfind("  ").filter(|gap| *gap > 0 && *gap < 40) {
        return at(gap + 2);
    }
    for mark in ["→ ", "- ", "> "] {
        if rest.starts_with(mark) {
            return at(mark.len());
        }
    }
    lead + if lead == 0 { 2 } else { 0 }
}

fn without_colors(line: &str) -> String {
    let mut out = String::with_capacity(line.len());
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        if c != '\x1b' {
            out.push(c);
        } else if chars.next() == Some('[') {
            let _ = chars.by_ref().find(|c| c.is_ascii_alphabetic());
        }
    }
    out
}

/// Puts what can be typed together: what is between backticks, and a command at the end of a line.
fn firm(text: &str, room: usize) -> String {
    let hold = |piece: &str| match piece.width() + 2 <= room {
        true => piece.replace(' ', &FIRM.to_string()),
        false => piece.to_owned(),
    };
    let mut out = String::with_capacity(text.len());
    for (at, piece) in text.split('`').enumerate() {
        if at > 0 {
            out.push('`');
        }
        let is_quoted = at % 2 == 1;
        match piece.rfind(": lantern ").map(|at| at + 2).filter(|_| !is_quoted) {
            _ if is_quoted => out.push_str(&hold(piece)),
            Some(command) => {
                let (words, command) = piece.split_at(command);
                let (command, behind) = command.split_at(command.trim_end().len());
                out.push_str(words);
                out.push_str(&hold(command));
                out.push_str(behind);
            }
            None => out.push_str(piece),
        }
    }
    out
}

/// Whether the locale has more than ASCII (POSIX.1 §8.2).
pub(crate) fn has_all_characters() -> bool {
    static HAS: OnceLock<bool> = OnceLock::new();
    *HAS.get_or_init(|| {
        let set = |name: &&str| std::env::var(name).is_ok_and(|value| !value.is_empty());
        let named = ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().find(set);
        let locale = named.and_then(|name| std::env::var(name).ok()).unwrap_or_default().to_lowercase();
        locale.contains("utf-8") || locale.contains("utf8")
    })
}

/// What marks a text that was cut: one cell.
pub(crate) fn cut_mark() -> char {
    if has_all_characters() { '…' } else { '~' }
}

/// The marks of ours that ASCII does not have, in others.
pub(crate) fn in_its_characters(text: String, all: bool) -> String {
    if all || text.is_ascii() {
        return text;
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '→' => out.push_str("->"),
            '…' => out.push_str("..."),
            '—' | '–' => out.push('-'),
            '↑' => out.push('^'),
            '↓' => out.push('v'),
            '▀' => out.push('\''),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_go_on_below_their_text_and_commands_stay_in_one_piece() {
        let text = "error: the machine did not let keeper in, and here is why that may be so\n  → unlock the key once, and all logins have it: lantern keeper add harbour\n";
        assert_eq!(
            wrapped(text, 44),
            "error: the machine did not let keeper in,\n  and here is why that may be so\n  → unlock the key once, and all logins have\n    it: lantern keeper add harbour\n"
        );
        let field = "host key   Ed25519 SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA (known)\n";
        assert_eq!(
            wrapped(field, 60),
            "host key   Ed25519\n          SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA\n          (known)\n"
        );
        assert_eq!(wrapped("short\nlines\n", 40), "short\nlines\n");
        assert_eq!(in_its_characters("a → b …".into(), false), "a -> b ...");
    }

    proptest! {
        /// No word is lost, none is broken, and no line is wider than its longest word makes it.
        #[test]
        fn words_stay_whole(words in proptest::collection::vec("[a-z]{1,12}|`[a-z ]{1,20}`|灯台|: lantern [a-z]{3}", 0..30), width in 40usize..120) {
            let text = words.join(" ");
            let out = wrapped(&text, width);
            let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
            let text = format!("  {text}");
            prop_assert_eq!(flat(&out), flat(&text));
            for line in out.lines() {
                prop_assert!(line.width() <= width, "{:?}", line);
            }
        }
    }
}
