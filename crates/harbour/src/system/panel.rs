//! The full-screen program: a frame that fills the terminal and follows its size.

use std::time::Instant;

use super::{Exit, Program, ProgramIo, Progress, fatal_signal};

#[derive(Debug, Default)]
pub(super) struct Panel {
    drawn: Option<(u32, u32)>,
    keys: u32,
}

impl Program for Panel {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        let Some(size) = io.surroundings.terminal else {
            io.err.extend_from_slice(b"panel: needs a terminal\n");
            return Progress::Ended(Exit::Status(1));
        };
        let leave = fatal_signal(io)
            .or_else(|| io.input.iter().any(|key| [b'q', 3, 4].contains(key)).then_some(Exit::Status(0)));
        if let Some(exit) = leave {
            io.input.clear();
            io.out.extend_from_slice(b"\x1b[?25h\x1b[?1049l");
            return Progress::Ended(exit);
        }
        self.keys += io.input.len() as u32;
        let changed = !io.input.is_empty() || self.drawn != Some(size);
        io.input.clear();
        if changed {
            if self.drawn.is_none() {
                io.out.extend_from_slice(b"\x1b[?1049h\x1b[?25l");
            }
            self.drawn = Some(size);
            let frame = self.frame(size, &io.surroundings.host);
            io.out.extend_from_slice(frame.as_bytes());
        }
        Progress::Waiting(None)
    }
}

impl Panel {
    fn frame(&self, (columns, rows): (u32, u32), host: &str) -> String {
        let width = (columns.clamp(4, 400) - 2) as usize;
        let height = rows.clamp(4, 200) - 2;
        let title = format!(" lamp room of {host} ");
        let lines = [
            String::new(),
            "  main lamp    \x1b[33m● lit\x1b[0m      group (2) every 10 s".to_owned(),
            "  fog horn     \x1b[2m○ silent\x1b[0m   visibility 9 nautical miles".to_owned(),
            "  tide         \x1b[34m▂▃▅▆▇▆▅▃▂\x1b[0m  3.4 m, rising".to_owned(),
            String::new(),
            format!("  {columns} columns, {rows} rows, {} keys pressed; q leaves", self.keys),
        ];
        let mut out = String::from("\x1b[H\x1b[2J");
        out.push_str(&format!("┌{title:─<width$}┐"));
        for row in 0..height as usize {
            let text = lines.get(row).map(String::as_str).unwrap_or_default();
            out.push_str(&format!("\x1b[{};1H│{text}\x1b[{};{}H│", row + 2, row + 2, width + 2));
        }
        out.push_str(&format!("\x1b[{};1H└{}┘", height + 2, "─".repeat(width)));
        out
    }
}
