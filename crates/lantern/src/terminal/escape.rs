//! The way out of a session that hangs: Ctrl-\ three times within a second opens a line with three choices.
//!
//! Strokes are held back until it is clear what they are: another key or the end of the second sends them on, so a
//! program that uses Ctrl-\ itself keeps it, and no other key is ever late.

use std::time::{Duration, Instant};

/// Ctrl-\
const STROKE: u8 = 0x1c;
const STROKES: usize = 3;
const WITHIN: Duration = Duration::from_secs(1);

/// What typed bytes turn into.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Typed {
    /// For the machine.
    Forward(Vec<u8>),
    /// The line with the choices is wanted.
    Menu,
    /// End the session.
    End,
    /// Suspend lantern.
    Suspend,
    /// Show the session's state.
    State,
    /// Go on as before.
    Resume,
}

/// Watches what is typed.
#[derive(Debug, Default)]
pub(crate) struct EscapeWatch {
    /// Strokes held back, and when the first of them came.
    held: usize,
    first: Option<Instant>,
    choosing: bool,
    off: bool,
}

impl EscapeWatch {
    /// Watches, or lets everything pass.
    pub(crate) fn new(on: bool) -> Self {
        Self { off: !on, ..Self::default() }
    }

    /// When [`Self::flush`] is due.
    pub(crate) fn deadline(&self) -> Option<Instant> {
        self.first.map(|first| first + WITHIN)
    }

    /// The strokes that were held back, since their time is up.
    pub(crate) fn flush(&mut self) -> Vec<u8> {
        self.first = None;
        vec![STROKE; std::mem::take(&mut self.held)]
    }

    /// Sorts what was typed at `now`.
    pub(crate) fn feed(&mut self, bytes: &[u8], now: Instant) -> Vec<Typed> {
        if self.off {
            return vec![Typed::Forward(bytes.to_vec())];
        }
        let mut out = Vec::new();
        let mut forward = Vec::new();
        if self.deadline().is_some_and(|deadline| now >= deadline) {
            forward.extend(self.flush());
        }
        for &byte in bytes {
            if std::mem::take(&mut self.choosing) {
                out.push(match byte {
                    b'e' => Typed::End,
                    b'z' => Typed::Suspend,
                    b's' => Typed::State,
                    _ => Typed::Resume,
                });
                continue;
            }
            if byte != STROKE {
                forward.extend(self.flush());
                forward.push(byte);
                continue;
            }
            self.first.get_or_insert(now);
            self.held += 1;
            if self.held == STROKES {
                self.flush();
                self.choosing = true;
                if !forward.is_empty() {
                    out.push(Typed::Forward(std::mem::take(&mut forward)));
                }
                out.push(Typed::Menu);
            }
        }
        if !forward.is_empty() {
            out.push(Typed::Forward(forward));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn forward(bytes: &[u8]) -> Typed {
        Typed::Forward(bytes.to_vec())
    }

    #[test]
    fn three_strokes_in_a_second_open_the_line_and_one_key_chooses() {
        let now = Instant::now();
        let mut watch = EscapeWatch::new(true);
        assert_eq!(watch.feed(b"ls\x1c\x1c", now), [forward(b"ls")]);
        assert_eq!(watch.feed(b"\x1c", now + Duration::from_millis(900)), [Typed::Menu]);
        assert_eq!(watch.feed(b"zq", now), [Typed::Suspend, forward(b"q")]);
        assert_eq!(watch.deadline(), None);
    }

    #[test]
    fn strokes_that_are_meant_for_the_machine_reach_it_in_order() {
        let now = Instant::now();
        let mut watch = EscapeWatch::new(true);
        assert_eq!(watch.feed(b"\x1c\x1cx\x1c", now), [forward(b"\x1c\x1cx")]);
        assert_eq!(watch.deadline(), Some(now + WITHIN));
        assert_eq!(watch.flush(), [STROKE]);
        assert_eq!(watch.feed(b"\x1c\x1c", now), []);
        assert_eq!(watch.feed(b"\x1c", now + WITHIN), [forward(b"\x1c\x1c")], "too slow");
        let mut off = EscapeWatch::new(false);
        assert_eq!(off.feed(b"\x1c\x1c\x1ce", now), [forward(b"\x1c\x1c\x1ce")]);
    }
}
