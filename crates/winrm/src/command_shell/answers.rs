//! What comes of answers, and of connections that are lost.

use super::{CommandShell, InFlight, ShellError, ShellEvent, Stage, UTF_8};
use crate::fault_code::FaultKind;
use crate::{Received, Request, Response, WinrmError};

impl CommandShell {
    fn landed(&mut self, number: u64) -> Option<InFlight> {
        let index = self.in_flight.iter().position(|flight| flight.number == number)?;
        Some(self.in_flight.remove(index))
    }

    /// Takes the answer to a post.
    pub fn handle_answer(&mut self, number: u64, bytes: &[u8]) {
        let Some(flight) = self.landed(number) else { return };
        let answer = Response::decode(bytes, &flight.request, &flight.message_id);
        match (flight.request, answer) {
            (Request::Create(_), Ok(Response::Created { shell })) => {
                self.shell = Some(shell);
                self.advance(Stage::HasShell);
            }
            (Request::Create(shell), Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::CodePage
                    && shell.code_page == Some(UTF_8)
                    && self.stage == Stage::New =>
            {
                // It writes in its own, then.
                self.config.shell.code_page = None;
            }
            (Request::Command(_), Ok(Response::Started { command })) => {
                self.command = command;
                if self.advance(Stage::Running) {
                    self.events.push_back(ShellEvent::Started);
                }
            }
            (Request::Receive { .. }, Ok(Response::Received(received))) => self.received(received),
            (Request::Receive { .. }, Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::TimedOut => {}
            (Request::Receive { .. }, Err(WinrmError::Fault(fault)))
                if self.lost_receive
                    && fault.kind() == FaultKind::Disconnected
                    && self.stage == Stage::Running =>
            {
                self.stage = Stage::Left;
            }
            (Request::Receive { .. }, Err(WinrmError::Fault(fault)))
                if self.lost_receive && fault.kind() == FaultKind::ShellGone =>
            {
                self.gone_with(ShellError::Lost { what: "output" });
            }
            (Request::Reconnect, Ok(_)) => {
                self.advance(Stage::Running);
            }
            (Request::Reconnect, Err(_)) => self.fail(ShellError::Lost { what: "output" }),
            (Request::Send { .. } | Request::Signal { .. }, Ok(_)) => {}
            // Whoever reads no more has ended, or will say by its end what it made of that: the next question for output tells.
            (Request::Send { .. } | Request::Signal { .. }, Err(WinrmError::Fault(fault)))
                if matches!(fault.kind(), FaultKind::CommandEnded | FaultKind::ShellGone) =>
            {
                self.drop_input();
            }
            (Request::Delete, _) => {
                self.stage = Stage::Gone;
                self.events.push_back(ShellEvent::Gone);
            }
            (request, Err(why)) => {
                let what = request.name();
                let is_gone =
                    matches!(&why, WinrmError::Fault(fault) if fault.kind() == FaultKind::ShellGone);
                let error = ShellError::Refused { what, why };
                match is_gone || self.shell.is_none() {
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

    /// Notes that a connection ended before the answer to a post was there; `is_amid`: a part of it had come.
    pub fn handle_lost(&mut self, number: u64, is_amid: bool) {
        let Some(flight) = self.landed(number) else { return };
        match flight.request {
            // The machine may have handed output to the connection that was lost: what follows is shown, and never taken for all there was.
            Request::Receive { .. } if !is_amid => self.lost_receive = true,
            Request::Delete => {
                self.stage = Stage::Gone;
                self.events.push_back(ShellEvent::Gone);
            }
            Request::Signal { .. } => {}
            request if self.shell.is_none() => self.gone_with(ShellError::Lost { what: request.name() }),
            request => self.fail(ShellError::Lost { what: request.name() }),
        }
    }

    /// Notes that there is no way to the machine any more: nothing more is asked, and the shell is left to its idle time.
    pub fn handle_unreachable(&mut self) {
        if self.stage != Stage::Gone {
            self.in_flight.clear();
            match self.stage {
                Stage::Over => {
                    self.stage = Stage::Gone;
                    self.events.push_back(ShellEvent::Gone);
                }
                _ => self.gone_with(ShellError::Lost { what: "output" }),
            }
        }
    }

    /// Goes on, unless the command has been given up meanwhile.
    fn advance(&mut self, to: Stage) -> bool {
        let goes_on = !matches!(self.stage, Stage::Over | Stage::Gone);
        if goes_on {
            self.stage = to;
        }
        goes_on
    }

    fn received(&mut self, received: Received) {
        if matches!(self.stage, Stage::Over | Stage::Gone) {
            return;
        }
        for (output, piece) in received.pieces {
            self.untaken += piece.len();
            self.events.push_back(ShellEvent::Output(output, piece));
        }
        if received.is_done {
            self.drop_input();
            self.stage = Stage::Over;
            self.events.push_back(ShellEvent::Ended { exit: received.exit, may_miss: self.lost_receive });
        }
    }

    fn fail(&mut self, error: ShellError) {
        // What went wrong after the end, or after it was given up, changes nothing.
        if self.advance(Stage::Over) {
            self.drop_input();
            self.events.push_back(ShellEvent::Failed(error));
        }
    }

    fn gone_with(&mut self, error: ShellError) {
        self.fail(error);
        if self.stage != Stage::Gone {
            self.stage = Stage::Gone;
            self.events.push_back(ShellEvent::Gone);
        }
    }
}
