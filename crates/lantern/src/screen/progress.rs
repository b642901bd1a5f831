//! A line that says how far something is, on a terminal and only when it takes over a second.

use std::io::{IsTerminal, Write};
use std::time::{Duration, Instant};

/// Nothing is shown before this.
const PATIENCE: Duration = Duration::from_secs(1);
/// Nor more often than this.
const PACE: Duration = Duration::from_millis(100);

/// How far something is.
#[derive(Debug)]
pub(crate) struct Progress {
    what: &'static str,
    done: usize,
    of: usize,
    since: Instant,
    shown: Option<Instant>,
}

impl Progress {
    /// Begins to count to `of`.
    pub(crate) fn start(what: &'static str, of: usize) -> Self {
        Self { what, done: 0, of, since: Instant::now(), shown: None }
    }

    /// One more is done.
    pub(crate) fn step(&mut self) {
        self.done += 1;
        let due = self.since.elapsed() > PATIENCE && self.shown.is_none_or(|shown| shown.elapsed() > PACE);
        if due && std::io::stderr().is_terminal() && !crate::screen::output::is_quiet() {
            self.shown = Some(Instant::now());
            let _ = write!(std::io::stderr(), "\r\x1b[K{}: {} of {}", self.what, self.done, self.of);
        }
    }

    /// Takes the line away.
    pub(crate) fn end(self) {
        if self.shown.is_some() {
            let _ = write!(std::io::stderr(), "\r\x1b[K");
        }
    }
}
