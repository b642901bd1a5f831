//! A list of which one is picked: by typing parts of it, and with the arrows.

use std::time::Duration;

use unicode_width::UnicodeWidthStr;

use super::modes;
use super::prompt::{Answer, Dialog, Turn};
use crate::screen::fit::Fit;
use crate::screen::table::put_cut;

/// Most rows that are shown at once.
const MAX_ROWS: usize = 12;
/// Longest that is typed, in bytes.
const MAX_TYPED_LEN: usize = 200;
/// How soon the rest of an arrow key comes behind its first byte.
const KEY_TIME: Duration = Duration::from_millis(50);

const ESCAPE: u8 = 27;

/// One that can be picked.
pub(crate) struct Item {
    /// What is shown of it, as columns.
    pub(crate) cells: Vec<String>,
}

/// Which items fit what was typed, the best first.
type Fitting<'a> = Box<dyn FnMut(&str) -> Vec<usize> + 'a>;

/// What was typed, and which of the items fit, the best first.
pub(crate) struct Picker<'a> {
    title: &'static str,
    items: &'a [Item],
    fitting: Fitting<'a>,
    typed: String,
    /// The bytes of a character that is not whole yet.
    partial: Vec<u8>,
    found: Vec<usize>,
    at: usize,
    /// The bytes of a key that takes several.
    sequence: Vec<u8>,
    size: fn() -> lantern_ssh::TerminalSize,
}

impl<'a> Picker<'a> {
    /// Nothing is typed yet. `fitting` says which items fit what is typed, the best first.
    pub(crate) fn new(
        title: &'static str,
        items: &'a [Item],
        mut fitting: impl FnMut(&str) -> Vec<usize> + 'a,
    ) -> Self {
        let found = fitting("");
        let (typed, partial, sequence) = (String::new(), Vec::new(), Vec::new());
        let fitting = Box::new(fitting);
        Self { title, items, fitting, typed, partial, found, at: 0, sequence, size: modes::size }
    }

    /// The one that was picked.
    pub(crate) fn picked(&self) -> Option<usize> {
        self.found.get(self.at).copied()
    }

    fn look(&mut self) -> Turn {
        self.found = (self.fitting)(&self.typed);
        self.at = 0;
        Turn::Show(self.shown())
    }

    fn go(&mut self, down: bool) -> Turn {
        let last = self.found.len().saturating_sub(1);
        self.at = if down { (self.at + 1).min(last) } else { self.at.saturating_sub(1) };
        Turn::Show(self.shown())
    }

    /// A key of several bytes. Whether that was all of it.
    fn sequence(&mut self, key: u8) -> Option<Turn> {
        self.sequence.push(key);
        match self.sequence.as_slice() {
            [ESCAPE] | [ESCAPE, b'[' | b'O'] => None,
            [ESCAPE, b'[' | b'O', b'A'] => Some(self.go(false)),
            [ESCAPE, b'[' | b'O', b'B'] => Some(self.go(true)),
            // Another key of that kind ends with a letter.
            [ESCAPE, b'[' | b'O', .., last] if !(64..=126).contains(last) && self.sequence.len() < 16 => None,
            [ESCAPE, b'[' | b'O', ..] => Some(Turn::Show(Vec::new())),
            _ => Some(Turn::Over(Answer::Ended)),
        }
    }

    fn rows(&self) -> usize {
        let rows = usize::try_from((self.size)().rows).unwrap_or(24);
        MAX_ROWS.min(rows.saturating_sub(3)).max(1)
    }

    /// The lines below the one that is typed into.
    fn lines(&self, width: usize) -> Vec<String> {
        let rows = self.rows();
        let first = (self.at + 1).saturating_sub(rows);
        let shown = || self.found.iter().skip(first).take(rows).filter_map(|index| self.items.get(*index));
        let columns = shown().map(|item| item.cells.len()).max().unwrap_or(0);
        let widest = |column: usize| {
            shown()
                .filter_map(|item| item.cells.get(column))
                .map(|cell| Fit::cell(cell).width())
                .max()
                .unwrap_or(0)
        };
        let widths: Vec<usize> = (0..columns).map(widest).collect();
        let mut lines: Vec<String> = shown()
            .enumerate()
            .map(|(row, item)| {
                let is_at = first + row == self.at;
                let mut line = String::from(if is_at { "> " } else { "  " });
                for (cell, widest) in item.cells.iter().zip(&widths).filter(|(_, widest)| **widest > 0) {
                    let cell = Fit::cell(cell);
                    line.push_str(&cell);
                    line.extend(std::iter::repeat_n(' ', widest + 2 - cell.width()));
                }
                let line = cut(line.trim_end(), width);
                if is_at { format!("\x1b[7m{line}\x1b[0m") } else { line }
            })
            .collect();
        lines.push(cut(
            &format!(
                "  {} of {}   arrows move, Enter takes it, Esc leaves",
                self.found.len(),
                self.items.len()
            ),
            width,
        ));
        lines
    }
}

/// A line that fits in so many cells.
fn cut(line: &str, width: usize) -> String {
    if line.width() <= width {
        return line.to_owned();
    }
    let mut out = String::new();
    put_cut(&mut out, line, width);
    out
}

impl Dialog for Picker<'_> {
    fn shown(&self) -> Vec<u8> {
        // The last column stays free: some terminals go to the next line there.
        let width = usize::try_from((self.size)().columns).unwrap_or(80).clamp(20, 400) - 1;
        let head = cut(&format!("{} {}", self.title, Fit::line(&self.typed)), width);
        let lines = self.lines(width);
        let mut text = format!("\r\x1b[J{head}");
        for line in &lines {
            text.push_str("\r\n");
            text.push_str(line);
        }
        // Back to where is typed.
        text.push_str(&format!("\x1b[{}A\r\x1b[{}C", lines.len(), head.width().max(1)));
        text.into_bytes()
    }

    fn key(&mut self, key: u8) -> Turn {
        if !self.sequence.is_empty() || key == ESCAPE {
            let turn = self.sequence(key);
            if turn.is_some() {
                self.sequence.clear();
            }
            return turn.unwrap_or(Turn::Show(Vec::new()));
        }
        match key {
            b'\r' | b'\n' if self.picked().is_some() => return Turn::Over(Answer::Given(())),
            4 if self.typed.is_empty() => return Turn::Over(Answer::Ended),
            14 | b'\t' => return self.go(true),
            16 => return self.go(false),
            8 | 127 => drop(self.typed.pop()),
            21 => self.typed.clear(),
            23 => {
                let kept = self.typed.trim_end().rfind(' ').map_or(0, |at| at + 1);
                self.typed.truncate(kept);
            }
            32.. if self.typed.len() < MAX_TYPED_LEN => {
                self.partial.push(key);
                match std::str::from_utf8(&self.partial) {
                    Ok(whole) => self.typed.push_str(whole),
                    Err(error) if error.error_len().is_none() => return Turn::Show(Vec::new()),
                    Err(_) => {}
                }
                self.partial.clear();
            }
            _ => return Turn::Show(Vec::new()),
        }
        self.look()
    }

    fn patience(&self) -> Option<Duration> {
        (!self.sequence.is_empty()).then_some(KEY_TIME)
    }

    fn nothing_came(&mut self) -> Turn {
        // Esc alone.
        Turn::Over(Answer::Ended)
    }

    fn end(&self) -> Vec<u8> {
        b"\r\x1b[J".to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn size() -> lantern_ssh::TerminalSize {
        lantern_ssh::TerminalSize { columns: 40, rows: 6, ..modes::size() }
    }

    fn items() -> Vec<Item> {
        ["lamp-01", "lamp-02", "foghorn", "tide-gauge", "灯台"]
            .map(|name| Item {
                cells: vec![name.to_owned(), format!("keeper@{name}.example, a long way out")],
            })
            .into_iter()
            .collect()
    }

    fn picker(items: &[Item]) -> Picker<'_> {
        let fitting =
            |typed: &str| (0..items.len()).filter(|index| items[*index].cells[0].contains(typed)).collect();
        let mut picker = Picker::new("Machine:", items, fitting);
        picker.size = size;
        picker
    }

    fn feed(picker: &mut Picker<'_>, keys: &str) -> Option<Answer<()>> {
        keys.bytes().find_map(|key| match picker.key(key) {
            Turn::Over(answer) => Some(answer),
            Turn::Show(_) => None,
        })
    }

    #[test]
    fn what_is_typed_narrows_and_the_arrows_move() {
        let items = items();
        for (keys, picked) in [
            ("\r", Some(0)),
            ("fog\r", Some(2)),
            ("lamp\x1b[B\r", Some(1)),
            ("lamp\x1bOB\x1b[A\x0e\x10\r", Some(0)),
            ("x\x7ftide\r", Some(3)),
            ("two words\x17\x17fog\r", Some(2)),
            ("nothing\x15灯\r", Some(4)),
            // A key that we don't know does nothing.
            ("\x1b[15~fog\r", Some(2)),
        ] {
            let mut picker = picker(&items);
            assert!(matches!(feed(&mut picker, keys), Some(Answer::Given(()))), "{keys:?}");
            assert_eq!(picker.picked(), picked, "{keys:?}");
        }
        for keys in ["\x1bx", "\x04"] {
            assert!(matches!(feed(&mut picker(&items), keys), Some(Answer::Ended)), "{keys:?}");
        }
        // Where nothing fits, Enter picks nothing; Esc alone leaves after a moment.
        let mut picker = picker(&items);
        assert!(feed(&mut picker, "nothing\r").is_none());
        assert!(feed(&mut picker, "\x1b").is_none());
        assert!(picker.patience().is_some() && matches!(picker.nothing_came(), Turn::Over(Answer::Ended)));
    }

    proptest! {
        /// Whatever is typed, each line fits the terminal, and nothing of it steers the terminal.
        #[test]
        fn lines_fit(keys in proptest::collection::vec(any::<u8>(), 0..60)) {
            let items = items();
            let mut picker = picker(&items);
            for key in keys {
                if let Turn::Over(_) = picker.key(key) {
                    break;
                }
            }
            let shown = String::from_utf8(picker.shown()).unwrap_or_default();
            prop_assert_eq!(shown.matches("\r\n").count(), picker.lines(39).len());
            for line in picker.lines(39) {
                let plain = line.replace("\x1b[7m", "").replace("\x1b[0m", "");
                prop_assert!(plain.width() <= 39 && !plain.contains(|c: char| c.is_control()), "{:?}", line);
            }
        }
    }
}
