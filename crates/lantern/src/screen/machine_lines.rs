//! Many machines at once on a terminal: a table that is drawn anew as they go on.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use lantern_ssh::TerminalSize;

use super::fit::Fit;
use super::live_lines::LiveLines;
use super::output;

/// No more often than this.
pub(crate) const PACE: Duration = Duration::from_millis(100);

/// The table.
pub(crate) struct Table {
    /// What is done with them: "checked".
    verb: &'static str,
    names: Vec<String>,
    states: Vec<State>,
    /// The size of the terminal, whenever it is asked for.
    size: fn() -> TerminalSize,
    shows: bool,
    /// Whether the screen shows an older state.
    is_stale: bool,
    lines: LiveLines,
    last: Option<Instant>,
}

/// The state of a machine in the table.
#[derive(Clone)]
pub(crate) enum State {
    /// Its turn has not come.
    Waits,
    /// It is at this step, or has said this last.
    At(String),
    /// It is done: how bad it is, and in words.
    Done(u8, String),
}

impl Table {
    pub(crate) fn start(
        verb: &'static str,
        names: &[String],
        quiet: bool,
        size: fn() -> TerminalSize,
    ) -> Self {
        let shows = !quiet && std::io::stderr().is_terminal() && !output::is_quiet();
        let mut table = Self {
            verb,
            names: names.to_vec(),
            states: vec![State::Waits; names.len()],
            size,
            shows,
            is_stale: true,
            lines: LiveLines::default(),
            last: None,
        };
        table.draw();
        table
    }

    /// Something has become of a machine.
    pub(crate) fn put(&mut self, index: usize, new: State) {
        if let Some(state) = self.states.get_mut(index)
            && !matches!(state, State::Done(..))
        {
            *state = new;
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
    pub(crate) fn draw(&mut self) {
        if !self.shows || !self.is_stale {
            return;
        }
        self.is_stale = false;
        self.last = Some(Instant::now());
        let text = self.picture();
        self.lines.draw(&text);
    }

    /// The table as it is now, as large as the terminal has room for.
    fn picture(&self) -> String {
        let size = (self.size)();
        let room = (size.rows as usize).saturating_sub(3).clamp(1, 120);
        let mut order: Vec<usize> = (0..self.names.len()).collect();
        order.sort_by_key(|index| match self.states.get(*index) {
            Some(State::Done(rank, _)) if *rank > 0 => 0u8,
            Some(State::At(_)) => 1,
            Some(State::Waits) => 2,
            _ => 3,
        });
        let done = self.states.iter().filter(|state| matches!(state, State::Done(..))).count();
        let mut text = format!("{} {done} of {}\n", self.verb, self.names.len());
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
            let line: String = Fit::line(&format!("  {name:<width$}  {state}"))
                .as_str()
                .chars()
                .take((size.columns as usize).max(20) - 1)
                .collect();
            text.push_str(&line);
            text.push('\n');
        }
        text
    }

    /// Takes the table away until something happens.
    pub(crate) fn pause(&mut self) {
        self.lines.clear();
        self.is_stale = false;
    }

    /// Takes the table away: the final one follows.
    pub(crate) fn end(&mut self) {
        self.lines.clear();
        self.shows = false;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table(names: usize, columns: u32, rows: u32) -> Table {
        let names: Vec<String> = (0..names).map(|n| format!("lamp-{n:05}-at-the-end-of-the-pier")).collect();
        let states = names.iter().map(|_| State::Waits).collect();
        // What a terminal says of itself differs; a function that says it cannot hold it.
        let size = match (columns, rows) {
            (1, 1) => || TerminalSize { columns: 1, rows: 1, width_px: 0, height_px: 0 },
            (0, 0) => || TerminalSize { columns: 0, rows: 0, width_px: 0, height_px: 0 },
            _ => || TerminalSize { columns: 80, rows: 24, width_px: 0, height_px: 0 },
        };
        Table {
            verb: "checked",
            names,
            states,
            size,
            shows: true,
            is_stale: true,
            lines: LiveLines::default(),
            last: None,
        }
    }

    #[test]
    fn it_fits_the_terminal_however_many_there_are() {
        let picture = table(10_000, 80, 24).picture();
        assert_eq!(picture.lines().count(), 22);
        assert!(picture.lines().all(|line| line.chars().count() < 80), "{picture}");
        for (columns, rows) in [(1, 1), (0, 0)] {
            let picture = table(10_000, columns, rows).picture();
            assert_eq!(picture.lines().count(), 2, "{picture}");
            assert!(picture.lines().all(|line| line.chars().count() < 24), "{picture}");
        }
        assert_eq!(table(0, 80, 24).picture(), "checked 0 of 0\n");
    }

    #[test]
    fn what_failed_stands_first_and_what_is_done_stays_done() {
        let mut table = table(30, 80, 24);
        table.shows = false;
        table.put(3, State::At("login".into()));
        table.put(20, State::Done(90, "FAILED port".into()));
        table.put(21, State::Done(0, "ok".into()));
        // News of a step that was on its way when it was over.
        table.put(20, State::At("port".into()));
        table.put(99, State::Waits);
        let picture = table.picture();
        let lines: Vec<&str> = picture.lines().collect();
        assert_eq!(lines[0], "checked 2 of 30");
        assert!(lines[1].contains("lamp-00020") && lines[1].ends_with("FAILED port"), "{picture}");
        assert!(lines[2].contains("lamp-00003") && lines[2].ends_with("login"), "{picture}");
        assert!(!picture.contains("lamp-00021"), "what is well comes last: {picture}");
    }
}
