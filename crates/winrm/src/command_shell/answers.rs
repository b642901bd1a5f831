//! How a command is brought to a machine: what is posted when, and what comes of answers and of connections that are lost.

use super::{CommandShell, ShellError, ShellEvent, Stage, UTF_8};
use crate::fault_code::FaultKind;
use crate::limits::OPERATION_TIMEOUT;
use crate::posting::{Lane, Post, Posts, Wanted};
use crate::{Received, Request, Response, WinrmError};

/// Output that may wait to be taken before more is asked for, in bytes.
const MAX_UNTAKEN: usize = 1024 * 1024;

impl Posts for CommandShell {
    fn wants_main(&self) -> bool {
        self.stage != Stage::Gone
    }

    fn wants_side(&self) -> Wanted {
        let is_busy = self.poster.is_busy(Lane::Side);
        if self.stage != Stage::Running || is_busy {
            return Wanted::Not;
        }
        match (
            self.signals.is_empty() && self.unsent.is_empty() && !self.poster.has_unsent(),
            self.input_ended && !self.input_over,
        ) {
            (false, _) => Wanted::Now,
            (true, true) => Wanted::Soon,
            (true, false) => Wanted::Not,
        }
    }

    fn poll_post(&mut self, lane: Lane) -> Result<Option<Post>, WinrmError> {
        if self.poster.is_busy(lane) {
            return Ok(None);
        }
        if !matches!(self.stage, Stage::Over | Stage::Gone)
            && let Some(request) = self.poster.next_unsent()
        {
            return self.poster.post(lane, request, OPERATION_TIMEOUT).map(Some);
        }
        let side_is_free = !self.poster.is_busy(Lane::Side);
        let request = match (lane, self.stage) {
            (Lane::Main, Stage::New) => Request::Create(self.new_shell.clone()),
            (Lane::Main, Stage::HasShell) => Request::Command(self.new_command.clone()),
            (Lane::Main, Stage::Left) => Request::Reconnect,
            (Lane::Main, Stage::Running) => match self.said_first(side_is_free) {
                Some(request) => request,
                None if self.untaken < MAX_UNTAKEN => {
                    Request::Receive { command: Some(self.command.clone()) }
                }
                None => return Ok(None),
            },
            // What is under way ends with the shell.
            (Lane::Main, Stage::Over) if self.poster.shell.is_some() => Request::Delete,
            (Lane::Side, Stage::Running) => match self.said() {
                Some(request) => request,
                None => return Ok(None),
            },
            _ => return Ok(None),
        };
        self.poster.post(lane, request, OPERATION_TIMEOUT).map(Some)
    }

    fn handle_answer(&mut self, number: u64, bytes: &[u8]) {
        let Some(flight) = self.poster.landed(number) else { return };
        let answer = Response::decode(bytes, &flight.request, &flight.message_id);
        match (flight.request, answer) {
            (Request::Create(_), Ok(Response::Created { shell })) => {
                self.poster.shell = Some(shell);
                self.advance(Stage::HasShell);
            }
            (Request::Create(shell), Err(WinrmError::Fault(fault)))
                if fault.kind() == FaultKind::CodePage
                    && shell.code_page == Some(UTF_8)
                    && self.stage == Stage::New =>
            {
                // It writes in its own, then.
                self.new_shell.code_page = None;
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
            (Request::Send(_) | Request::Signal { .. }, Ok(_)) => {}
            // Whoever reads no more has ended, or will say by its end what it made of that: the next question for output tells.
            (Request::Send(_) | Request::Signal { .. }, Err(WinrmError::Fault(fault)))
                if matches!(fault.kind(), FaultKind::CommandEnded | FaultKind::ShellGone) =>
            {
                self.drop_input();
            }
            (Request::Delete, _) => {
                self.stage = Stage::Gone;
                self.events.push_back(ShellEvent::Gone);
            }
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

    fn handle_unsent(&mut self, number: u64) {
        self.poster.keep_unsent(number);
    }

    fn handle_lost(&mut self, number: u64, is_amid: bool) {
        let Some(flight) = self.poster.landed(number) else { return };
        match flight.request {
            // The machine may have handed output to the connection that was lost: what follows is shown, and never taken for all there was.
            Request::Receive { .. } if !is_amid => self.lost_receive = true,
            Request::Delete => {
                self.stage = Stage::Gone;
                self.events.push_back(ShellEvent::Gone);
            }
            Request::Signal { .. } => {}
            request if self.poster.shell.is_none() => {
                self.gone_with(ShellError::Lost { what: request.name() })
            }
            request => self.fail(ShellError::Lost { what: request.name() }),
        }
    }

    fn handle_unreachable(&mut self) {
        if self.stage != Stage::Gone {
            self.poster.in_flight.clear();
            match self.stage {
                Stage::Over => {
                    self.stage = Stage::Gone;
                    self.events.push_back(ShellEvent::Gone);
                }
                _ => self.gone_with(ShellError::Lost { what: "output" }),
            }
        }
    }

    fn close(&mut self) {
        self.stage = match (self.stage, &self.poster.shell) {
            (Stage::Gone, _) => return,
            // A shell whose name has not been heard yet is heard of, and ended then.
            (_, None) if self.poster.in_flight.is_empty() => {
                self.events.push_back(ShellEvent::Gone);
                Stage::Gone
            }
            _ => Stage::Over,
        };
        self.drop_input();
    }

    fn is_gone(&self) -> bool {
        self.stage == Stage::Gone
    }

    fn has_shell(&self) -> bool {
        self.poster.shell.is_some() && self.stage != Stage::Gone
    }
}

impl CommandShell {
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
