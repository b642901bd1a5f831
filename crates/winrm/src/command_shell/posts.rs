//! What a command shell posts next.

use super::{CommandShell, InFlight, Lane, Post, Stage, Wanted};
use crate::ids::uuid;
use crate::limits::{ANSWER_MARGIN, ENVELOPE_OVERHEAD, OPERATION_TIMEOUT};
use crate::{Request, RequestHeaders, WinrmError};

/// What a machine is told at once when nothing waits for output yet: it goes into the program's pipe without anybody reading, in bytes.
const SMALL_INPUT: usize = 4096;
/// Output that may wait to be taken before more is asked for, in bytes.
const MAX_UNTAKEN: usize = 1024 * 1024;

impl CommandShell {
    /// How much a second connection is wanted, while the main one waits for output.
    pub fn wants_side(&self) -> Wanted {
        let is_busy = self.in_flight.iter().any(|flight| flight.lane == Lane::Side);
        if self.stage != Stage::Running || is_busy {
            return Wanted::Not;
        }
        match (self.signals.is_empty() && self.unsent.is_empty(), self.input_ended && !self.input_over) {
            (false, _) => Wanted::Now,
            (true, true) => Wanted::Soon,
            (true, false) => Wanted::Not,
        }
    }

    /// What to post on a connection that is free.
    ///
    /// # Errors
    /// What was handed over cannot be sent.
    pub fn poll_post(&mut self, lane: Lane) -> Result<Option<Post>, WinrmError> {
        if self.in_flight.iter().any(|flight| flight.lane == lane) {
            return Ok(None);
        }
        let side_is_free = !self.in_flight.iter().any(|flight| flight.lane == Lane::Side);
        let request = match (lane, self.stage) {
            (Lane::Main, Stage::New) => Request::Create(self.config.shell.clone()),
            (Lane::Main, Stage::HasShell) => Request::Command(self.config.command.clone()),
            (Lane::Main, Stage::Left) => Request::Reconnect,
            (Lane::Main, Stage::Running) => match self.said_first(side_is_free) {
                Some(request) => request,
                None if self.untaken < MAX_UNTAKEN => Request::Receive { command: self.command.clone() },
                None => return Ok(None),
            },
            // What is under way ends with the shell.
            (Lane::Main, Stage::Over) if self.shell.is_some() => Request::Delete,
            (Lane::Side, Stage::Running) => match self.said() {
                Some(request) => request,
                None => return Ok(None),
            },
            _ => return Ok(None),
        };
        self.post(lane, request).map(Some)
    }

    /// What can be said on the main connection before it waits: it costs a round trip, and a second login costs more.
    fn said_first(&mut self, side_is_free: bool) -> Option<Request> {
        let is_small = self.unsent_bytes <= SMALL_INPUT && !self.unsent.is_empty();
        match side_is_free && (is_small || !self.signals.is_empty()) {
            true => self.said(),
            false => None,
        }
    }

    /// A signal, or input: many pieces in one, as much as an envelope takes.
    fn said(&mut self) -> Option<Request> {
        let command = self.command.clone();
        if let Some(signal) = self.signals.pop_front() {
            return Some(Request::Signal { command, signal });
        }
        if self.input_over || self.unsent.is_empty() && !self.input_ended {
            return None;
        }
        // Base64 makes four bytes of three.
        let mut room = (self.config.max_envelope as usize).saturating_sub(ENVELOPE_OVERHEAD) / 4 * 3;
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
        Some(Request::Send { command, pieces, end })
    }

    fn post(&mut self, lane: Lane, request: Request) -> Result<Post, WinrmError> {
        let message_id = uuid(self.random.as_mut());
        let limit = match &request {
            Request::Create(_) => None,
            _ => Some(OPERATION_TIMEOUT + ANSWER_MARGIN),
        };
        let headers = RequestHeaders {
            to: self.config.url.clone(),
            action: String::new(),
            resource: Request::ENDPOINT.to_owned(),
            message_id: message_id.clone(),
            session_id: self.session_id.clone(),
            max_envelope: self.config.max_envelope,
            timeout: OPERATION_TIMEOUT,
            language: self.config.language.clone(),
            shell: self.shell.clone(),
            options: Vec::new(),
        };
        let (body, what) = (request.encode(headers)?, request.name());
        self.posted += 1;
        self.in_flight.push(InFlight { number: self.posted, lane, request, message_id });
        Ok(Post { number: self.posted, body, what, limit })
    }
}
