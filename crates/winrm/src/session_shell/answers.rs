//! What comes of answers, and of connections that are lost.

use super::{Begun, SessionShell, SessionShellEvent, Stage};
use crate::fault_code::FaultKind;
use crate::remoting::Said;
use crate::{Received, Request, Response, ShellError, Signal, WinrmError};

impl SessionShell {
    pub(super) fn answered(&mut self, number: u64, bytes: &[u8]) {
        let Some(flight) = self.poster.landed(number) else { return };
        let answer = Response::decode(bytes, &flight.request, &flight.message_id);
        if self.is_lost && answer_is_taken(&answer) && self.stage != Stage::Left {
            self.is_lost = false;
            self.events.push_back((SessionShellEvent::LinkBack, 0));
        }
        match (flight.request, answer) {
            (Request::Create(_), Ok(Response::Created { shell })) => {
                self.poster.shell = Some(shell);
                self.advance(Stage::Opening);
            }
            (Request::Pipeline { .. }, Ok(Response::Started { .. })) => self.begun(),
            (Request::Receive { command }, Ok(Response::Received(received))) => {
                self.confirmed(command.as_deref());
                self.received(command.as_deref(), received);
            }
            (Request::Receive { command }, Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::TimedOut =>
            {
                self.confirmed(command.as_deref());
                // Nothing for long: the pool may wait for us.
                self.looks_at_pool = command.is_some();
                if self.opening_is_lost && self.stage == Stage::Opening {
                    // That it is open was said to a connection that is gone.
                    return self.fail(ShellError::Lost { what: "a session" });
                }
                if command.is_none() {
                    self.release_end();
                }
            }
            (Request::Receive { .. } | Request::Pipeline { .. }, Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::Disconnected && self.stage == Stage::Ready =>
            {
                self.stage = Stage::Left;
            }
            // It never began: once more, then.
            (Request::Receive { command: Some(_) }, Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::CommandEnded && self.is_unsure() =>
            {
                if let Some(current) = &mut self.current {
                    current.begun = Begun::Not;
                }
            }
            (Request::Connect(_), Ok(_)) => self.session.handle_joined(),
            (Request::Reconnect, Ok(_)) => {
                self.advance(Stage::Ready);
            }
            (Request::Send(_), Ok(_)) | (Request::Signal { .. }, Ok(_)) => {}
            // Who is over reads no more, and has said so or will.
            (Request::Send(_) | Request::Signal { .. }, Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::CommandEnded => {}
            // What remains of a pipeline goes with the shell.
            (Request::Signal { signal: Signal::Terminate, .. }, Err(_)) => {}
            (Request::Delete, _) => self.gone(),
            (request, Err(why)) => {
                let (error, is_gone) = ShellError::refused(&request, why);
                match is_gone || self.poster.shell.is_none() {
                    true => self.gone_with(error),
                    false => self.fail(error),
                }
            }
            (request, Ok(_)) => {
                let what = request.name();
                self.fail(ShellError::Refused { what, why: WinrmError::Wrong("answer") });
            }
        }
    }

    /// A connection was lost before the answer. What waits for output asks again; a pipeline that may have begun is asked after; what was told in vain is
    /// an end, since nobody knows whether it was heard.
    pub(super) fn lost(&mut self, number: u64) {
        let Some(flight) = self.poster.landed(number) else { return };
        match flight.request {
            Request::Receive { command } => {
                match command {
                    Some(_) => self.session.note_loss(),
                    None => self.opening_is_lost = self.stage == Stage::Opening,
                }
                self.link_lost();
            }
            Request::Pipeline { .. } => {
                if let Some(current) = &mut self.current {
                    current.begun = Begun::Unsure;
                }
                self.link_lost();
            }
            // To stop twice is to stop, and what remains of a pipeline goes with the shell.
            Request::Signal { signal: Signal::Stop, .. } => {
                self.stops = self.current.is_some();
                self.link_lost();
            }
            Request::Signal { .. } | Request::Reconnect | Request::Connect(_) => self.link_lost(),
            Request::Delete => self.gone(),
            request if self.poster.shell.is_none() => {
                self.gone_with(ShellError::Lost { what: request.name() });
            }
            request => self.fail(ShellError::Lost { what: request.name() }),
        }
    }

    fn link_lost(&mut self) {
        if !self.is_lost && !matches!(self.stage, Stage::Over | Stage::Gone) {
            self.is_lost = true;
            self.events.push_back((SessionShellEvent::LinkLost, 0));
        }
    }

    fn is_unsure(&self) -> bool {
        self.current.as_ref().is_some_and(|current| current.begun == Begun::Unsure)
    }

    /// The machine knows the pipeline.
    fn confirmed(&mut self, command: Option<&str>) {
        if command.is_some() && self.is_unsure() {
            self.begun();
        }
    }

    /// The first fragment of what begins it has arrived; the others follow.
    fn begun(&mut self) {
        let Some(current) = &mut self.current else { return };
        current.begun = Begun::Yes;
        let mut fragments = std::mem::take(&mut current.fragments);
        fragments.pop_front();
        let pipeline = Some(current.name.clone());
        for bytes in fragments.into_iter().rev() {
            self.session.say_first(Said { pipeline: pipeline.clone(), is_answer: false, bytes });
        }
    }

    fn received(&mut self, command: Option<&str>, received: Received) {
        if matches!(self.stage, Stage::Over | Stage::Gone) {
            return;
        }
        for (_, piece) in received.pieces {
            if let Err(why) = self.session.handle(command, &piece) {
                self.tell();
                return self.fail(ShellError::Session { why });
            }
        }
        self.tell();
        if command.is_none() {
            self.release_end();
        }
        let is_current = self.held_end.is_none()
            && self.current.as_ref().is_some_and(|current| Some(current.name.as_str()) == command);
        if received.is_done && is_current {
            // Its last word may be among what was lost.
            let what = "the end of a pipeline";
            match self.session.fears_loss() {
                true => self.fail(ShellError::Lost { what }),
                false => self.fail(ShellError::Refused { what, why: WinrmError::Missing("PIPELINE_STATE") }),
            }
        }
    }

    /// Goes on, unless it has been given up meanwhile.
    fn advance(&mut self, to: Stage) -> bool {
        let goes_on = !matches!(self.stage, Stage::Over | Stage::Gone);
        if goes_on {
            self.stage = to;
        }
        goes_on
    }

    fn fail(&mut self, error: ShellError) {
        // What went wrong after the end, or after it was given up, changes nothing.
        if self.advance(Stage::Over) {
            self.events.push_back((SessionShellEvent::Failed(error), 0));
        }
    }

    pub(super) fn gone_with(&mut self, error: ShellError) {
        self.fail(error);
        if self.stage != Stage::Gone {
            self.gone();
        }
    }
}

/// Whether the machine was reached, whatever it said.
fn answer_is_taken(answer: &Result<Response, WinrmError>) -> bool {
    match answer {
        Ok(_) => true,
        Err(WinrmError::Fault(fault)) => fault.kind() != FaultKind::Disconnected,
        Err(_) => false,
    }
}
