//! What is posted when.

use std::time::Duration;

use bytes::Bytes;

use super::{Begun, SessionShell, SessionShellEvent, Stage};
use crate::limits::OPERATION_TIMEOUT;
use crate::posting::{Lane, Post, Posts, Wanted};
use crate::remoting::Said;
use crate::{Request, Sent, Signal, WinrmError};

/// Output that may wait to be taken before more is asked for, in bytes.
const MAX_UNTAKEN: usize = 1024 * 1024;
/// How long a quiet pipeline is waited for before the pool is asked whether it wants something: a key for secrets, without which the pipeline waits.
const QUIET: Duration = Duration::from_secs(20);
/// The same for the first time: few pipelines are quiet for as long.
const FIRST_QUIET: Duration = Duration::from_secs(5);
/// How long the pool is asked for that.
const LOOK: Duration = Duration::from_millis(500);

impl SessionShell {
    /// Fragments, many in one post.
    fn send(&mut self) -> Option<Request> {
        let Said { pipeline, is_answer, bytes } = self.session.poll_said()?;
        let (mut room, mut pieces) =
            (self.poster.room().saturating_sub(bytes.len()), vec![Bytes::from(bytes)]);
        // Each piece costs its element beside its data.
        while let Some(more) = self.session.poll_said_with(pipeline.as_deref(), is_answer, room) {
            room = room.saturating_sub(more.len() + 128);
            pieces.push(more.into());
        }
        Some(Request::Send(Sent { command: pipeline, is_answer, pieces, end: false }))
    }

    /// What is to be said before anything is waited for.
    fn said(&mut self) -> Option<Request> {
        let begun = self.current.as_ref().is_some_and(|current| current.begun == Begun::Yes);
        if self.stops && begun {
            self.stops = false;
            let command = self.current.as_ref().map(|current| current.name.clone())?;
            return Some(Request::Signal { command, signal: Signal::Stop });
        }
        match begun || self.current.is_none() {
            true => self.send(),
            false => None,
        }
    }

    /// Whether the pool is being asked what it says.
    fn pool_is_asked(&self) -> bool {
        let asks = |request: &Request| matches!(request, Request::Receive { command: None });
        self.poster.in_flight.iter().any(|flight| asks(&flight.request))
    }

    /// Whether the main connection is held by a question that is answered when there is something; anything else will be over soon.
    fn waits_on_main(&self) -> bool {
        let waits = |request: &Request| matches!(request, Request::Receive { .. });
        self.poster.in_flight.iter().any(|flight| flight.lane == Lane::Main && waits(&flight.request))
    }

    fn receive(&self, of_pool: bool) -> Request {
        let command = self.current.as_ref().filter(|_| !of_pool).map(|current| current.name.clone());
        Request::Receive { command }
    }

    fn on_main(&mut self) -> Option<(Request, Duration)> {
        let usual = |request| Some((request, OPERATION_TIMEOUT));
        match self.stage {
            Stage::New => return usual(Request::Create(self.new_shell.clone())),
            Stage::Joining => {
                let fragments = self.new_shell.session.as_ref().map(|session| session.creation.clone());
                return usual(Request::Connect(fragments.unwrap_or_default()));
            }
            Stage::Opening => return usual(self.receive(true)),
            Stage::Left => return usual(Request::Reconnect),
            Stage::Over if self.poster.shell.is_some() => return usual(Request::Delete),
            Stage::Over | Stage::Gone => return None,
            Stage::Ready => {}
        }
        if let Some(current) = &mut self.current
            && current.begun == Begun::Not
        {
            // The first fragment goes along; the others follow.
            let fragments = current.fragments.front().cloned().unwrap_or_default().into();
            let id = current.name.clone();
            return usual(Request::Pipeline { id, fragments });
        }
        if let Some(command) = self.remains.pop_front() {
            return usual(Request::Signal { command, signal: Signal::Terminate });
        }
        if self.held_end.is_some() && !self.pool_is_asked() {
            return Some((self.receive(true), LOOK));
        }
        let side_is_free = !self.poster.is_busy(Lane::Side);
        if side_is_free && let Some(request) = self.said() {
            return usual(request);
        }
        let pool_is_asked = self.pool_is_asked();
        if self.session.awaits_pool() && !pool_is_asked {
            return usual(self.receive(true));
        }
        // Who waits for an answer says nothing until it comes; then the connection is free for it.
        if self.current.is_none() || self.session.is_asking() || self.untaken >= MAX_UNTAKEN {
            return None;
        }
        if std::mem::take(&mut self.looks_at_pool) && !pool_is_asked {
            self.has_looked = true;
            return Some((self.receive(true), LOOK));
        }
        Some((self.receive(false), if self.has_looked { QUIET } else { FIRST_QUIET }))
    }

    fn on_side(&mut self) -> Option<(Request, Duration)> {
        match self.stage {
            Stage::Ready => {}
            // While the main connection is held by a question for output.
            Stage::Over if self.poster.shell.is_some() && self.poster.is_busy(Lane::Main) => {
                return Some((Request::Delete, OPERATION_TIMEOUT));
            }
            _ => return None,
        }
        // What is said on the other connection at the same time could come in another order.
        if !self.waits_on_main() {
            return None;
        }
        if let Some(request) = self.said() {
            return Some((request, OPERATION_TIMEOUT));
        }
        let pool_is_asked = self.pool_is_asked();
        let asks = self.session.awaits_pool() && !pool_is_asked;
        asks.then(|| (self.receive(true), OPERATION_TIMEOUT))
    }
}

impl Posts for SessionShell {
    fn wants_main(&self) -> bool {
        match self.stage {
            Stage::Gone => false,
            // While somebody thinks, there is nothing to say.
            Stage::Ready => self.current.is_some() || self.session.has_said() || self.session.awaits_pool(),
            _ => true,
        }
    }

    fn wants_side(&self) -> Wanted {
        if self.stage != Stage::Ready || self.poster.is_busy(Lane::Side) || !self.waits_on_main() {
            return Wanted::Not;
        }
        let begun = self.current.as_ref().is_some_and(|current| current.begun == Begun::Yes);
        let says = begun && (self.stops || self.session.has_said()) || self.poster.has_unsent();
        let pool_is_asked = self.pool_is_asked();
        match says || self.session.awaits_pool() && !pool_is_asked {
            true => Wanted::Now,
            false => Wanted::Not,
        }
    }

    fn poll_post(&mut self, lane: Lane) -> Result<Option<Post>, WinrmError> {
        if self.poster.is_busy(lane) {
            return Ok(None);
        }
        let takes_unsent = match (lane, self.stage) {
            (_, Stage::Over | Stage::Gone) => false,
            (Lane::Main, _) => true,
            (Lane::Side, _) => self.waits_on_main(),
        };
        let unsent = if takes_unsent { self.poster.next_unsent() } else { None };
        let unsent = unsent.map(|request| (request, OPERATION_TIMEOUT));
        let next = match lane {
            _ if unsent.is_some() => unsent,
            Lane::Main => self.on_main(),
            Lane::Side => self.on_side(),
        };
        let Some((request, timeout)) = next else { return Ok(None) };
        self.poster.post(lane, request, timeout).map(Some)
    }

    fn handle_answer(&mut self, number: u64, bytes: &[u8]) {
        self.answered(number, bytes);
        self.tell();
    }

    fn handle_unsent(&mut self, number: u64) {
        self.poster.keep_unsent(number);
    }

    fn handle_lost(&mut self, number: u64, _is_amid: bool) {
        self.lost(number);
    }

    fn handle_unreachable(&mut self) {
        if self.stage != Stage::Gone {
            self.poster.in_flight.clear();
            match self.stage {
                Stage::Over => self.gone(),
                _ => self.gone_with(crate::ShellError::Lost { what: "output" }),
            }
        }
    }

    fn close(&mut self) {
        match (self.stage, &self.poster.shell) {
            (Stage::Gone, _) => {}
            // A shell whose name has not been heard yet is heard of, and ended then.
            (_, None) if self.poster.in_flight.is_empty() => self.gone(),
            _ => self.stage = Stage::Over,
        }
    }

    fn is_gone(&self) -> bool {
        self.stage == Stage::Gone
    }

    fn has_shell(&self) -> bool {
        self.poster.shell.is_some() && self.stage != Stage::Gone
    }
}

impl SessionShell {
    pub(super) fn gone(&mut self) {
        self.stage = Stage::Gone;
        self.events.push_back((SessionShellEvent::Gone, 0));
    }
}
