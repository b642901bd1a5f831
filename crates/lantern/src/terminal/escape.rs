//! The way out of a session that hangs: Ctrl-^ three times within a second opens a line with three choices.
//!
//! The first two strokes go to the machine like any other key, so nothing is held back and nothing typed is late; a
//! program that uses Ctrl-^ itself keeps it.

use std::time::{Duration, Instant};

/// Ctrl-^
const STROKE: u8 = 0x1e;
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
    strokes: Vec<Instant>,
    choosing: bool,
    off: bool,
}

impl EscapeWatch {
    /// Watches, or lets everything pass.
    pub(crate) fn new(on: bool) -> Self {
        Self { off: !on, ..Self::default() }
    }

    /// Sorts what was typed at `now`.
    pub(crate) fn feed(&mut self, bytes: &[u8], now: Instant) -> Vec<Typed> {
        if self.off {
            return vec![Typed::Forward(bytes.to_vec())];
        }
        let mut out = Vec::new();
        let mut forward = Vec::new();
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
            if byte == STROKE {
                self.strokes.retain(|at| now.saturating_duration_since(*at) < WITHIN);
                self.strokes.push(now);
                if self.strokes.len() == STROKES {
                    self.strokes.clear();
                    self.choosing = true;
                    if !forward.is_empty() {
                        out.push(Typed::Forward(std::mem::take(&mut forward)));
                    }
                    out.push(Typed::Menu);
                    continue;
                }
            } else {
                self.strokes.clear();
            }
            forward.push(byte);
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

    #[test]
    fn three_strokes_in_a_second_open_the_line_and_one_key_chooses() {
        let now = Instant::now();
        let mut watch = EscapeWatch::new(true);
        assert_eq!(watch.feed(b"ls\x1e\x1e", now), [Typed::Forward(b"ls\x1e\x1e".to_vec())]);
        assert_eq!(watch.feed(b"\x1e", now + Duration::from_millis(900)), [Typed::Menu]);
        assert_eq!(watch.feed(b"zq", now), [Typed::Suspend, Typed::Forward(b"q".to_vec())]);

        assert_eq!(watch.feed(b"\x1e\x1ex\x1e", now).len(), 1, "another key in between starts over");
        watch.feed(b"x", now);
        watch.feed(b"\x1e\x1e", now);
        assert_eq!(
            watch.feed(b"\x1e", now + Duration::from_secs(2)),
            [Typed::Forward(vec![STROKE])],
            "too slow"
        );
        let mut off = EscapeWatch::new(false);
        assert_eq!(off.feed(b"\x1e\x1e\x1ee", now), [Typed::Forward(b"\x1e\x1e\x1ee".to_vec())]);
    }
}
