//! Lines on a terminal that are drawn anew in their place.

use std::io::Write;

/// Lines that stand at the end of what is on the screen.
#[derive(Debug, Default)]
pub(super) struct LiveLines {
    drawn: usize,
}

impl LiveLines {
    /// Draws a text in place of the last one. Its lines must not be wider than the terminal.
    pub(super) fn draw(&mut self, text: &str) {
        let up = self.up();
        // All at once: what is taken away is not seen to go.
        let _ = write!(std::io::stderr(), "{up}{text}");
        self.drawn = text.lines().count();
    }

    /// Takes it away.
    pub(super) fn clear(&mut self) {
        let up = self.up();
        let _ = write!(std::io::stderr(), "{up}");
        self.drawn = 0;
    }

    fn up(&self) -> String {
        if self.drawn > 0 { format!("\x1b[{}A\x1b[J", self.drawn) } else { String::new() }
    }
}
