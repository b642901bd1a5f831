//! Many machines at once on a terminal: a table that is drawn anew as they go on.

use std::io::{IsTerminal, Write};
use std::time::{Duration, Instant};

use super::account::Account;
use super::report;
use crate::output;
use crate::terminal::modes;

/// No more often than this.
pub(super) const PACE: Duration = Duration::from_millis(100);

/// The table.
pub(super) struct Table {
    names: Vec<String>,
    states: Vec<State>,
    shows: bool,
    /// Whether the screen shows an older state.
    is_stale: bool,
    /// Lines on the screen that are ours.
    drawn: usize,
    last: Option<Instant>,
}

#[derive(Clone)]
enum State {
    Waits,
    At(&'static str),
    Done(u8, String),
}

impl Table {
    pub(super) fn start(names: &[String], quiet: bool) -> Self {
        let shows = !quiet && std::io::stderr().is_terminal() && !output::is_quiet();
        let mut table = Self {
            names: names.to_vec(),
            states: vec![State::Waits; names.len()],
            shows,
            is_stale: true,
            drawn: 0,
            last: None,
        };
        table.draw();
        table
    }

    pub(super) fn step(&mut self, index: usize, step: &'static str) {
        if let Some(state) = self.states.get_mut(index)
            && !matches!(state, State::Done(..))
        {
            *state = State::At(step);
        }
        self.draw_sometimes();
    }

    pub(super) fn done(&mut self, index: usize, account: &Account) {
        if let Some(state) = self.states.get_mut(index) {
            *state = State::Done(account.rank().0, report::state(account).0);
        }
        self.draw_sometimes();
    }

    fn draw_sometimes(&mut self) {
        self.is_stale = true;
        if self.last.is_none_or(|last| last.elapsed() > PACE) {
            self.draw();
        }
    }

    /// What failed, what is under way, what is well: as many as the screen has room for.
    pub(super) fn draw(&mut self) {
        if !self.shows || !self.is_stale {
            return;
        }
        self.is_stale = false;
        self.last = Some(Instant::now());
        let size = modes::size();
        let room = (size.rows as usize).saturating_sub(3).clamp(1, 40);
        let mut order: Vec<usize> = (0..self.names.len()).collect();
        order.sort_by_key(|index| match self.states.get(*index) {
            Some(State::Done(rank, _)) if *rank > 0 => 0u8,
            Some(State::At(_)) => 1,
            Some(State::Waits) => 2,
            _ => 3,
        });
        let done = self.states.iter().filter(|state| matches!(state, State::Done(..))).count();
        let mut text = format!("checked {done} of {}\n", self.names.len());
        let width = self.names.iter().map(String::len).max().unwrap_or(0).min(40);
        for index in order.iter().take(room) {
            let (Some(name), Some(state)) = (self.names.get(*index), self.states.get(*index)) else {
                continue;
            };
            let state = match state {
                State::Waits => "waits",
                State::At(step) => step,
                State::Done(_, state) => state,
            };
            let line: String = format!("  {name:<width$}  {state}")
                .chars()
                .take((size.columns as usize).max(20) - 1)
                .collect();
            text.push_str(&line);
            text.push('\n');
        }
        self.clear();
        let _ = std::io::stderr().write_all(text.as_bytes());
        self.drawn = text.lines().count();
    }

    fn clear(&mut self) {
        if self.drawn > 0 {
            let _ = write!(std::io::stderr(), "\x1b[{}A\x1b[J", self.drawn);
            self.drawn = 0;
        }
    }

    /// Takes the table away: the final one follows.
    pub(super) fn end(mut self) {
        self.clear();
    }
}
