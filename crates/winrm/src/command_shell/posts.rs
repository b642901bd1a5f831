//! What a command shell posts next.

use super::CommandShell;
use crate::{Request, Sent};

/// What a machine is told at once when nothing waits for output yet: it goes into the program's pipe without anybody reading, in bytes.
const SMALL_INPUT: usize = 4096;

impl CommandShell {
    /// What can be said on the main connection before it waits: it costs a round trip, and a second login costs more.
    pub(super) fn said_first(&mut self, side_is_free: bool) -> Option<Request> {
        let is_small = self.unsent_bytes <= SMALL_INPUT && !self.unsent.is_empty();
        match side_is_free && (is_small || !self.signals.is_empty()) {
            true => self.said(),
            false => None,
        }
    }

    /// A signal, or input: many pieces in one, as much as an envelope takes.
    pub(super) fn said(&mut self) -> Option<Request> {
        let command = self.command.clone();
        if let Some(signal) = self.signals.pop_front() {
            return Some(Request::Signal { command, signal });
        }
        if self.input_over || self.unsent.is_empty() && !self.input_ended {
            return None;
        }
        let mut room = self.poster.room();
        let mut pieces = Vec::new();
        while let Some(piece) = self.unsent.front_mut().filter(|_| room > 0) {
            let part = piece.split_to(room.min(piece.len()));
            if piece.is_empty() {
                self.unsent.pop_front();
            }
            // Each piece costs its element beside its data.
            room = room.saturating_sub(part.len() + 128);
            self.unsent_bytes -= part.len();
            pieces.push(part);
        }
        let end = self.input_ended && self.unsent.is_empty();
        self.input_over |= end;
        Some(Request::Send(Sent { command: Some(command), is_answer: false, pieces, end }))
    }
}
