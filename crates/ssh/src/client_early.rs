//! What a client opens together with its login.

use std::time::Instant;

use crate::channel::{ChannelId, Phase};
use crate::early::{Early, EarlySession};
use crate::{Client, SshError};

impl Client {
    /// Has a session opened together with the first login that is signed, if that is the next thing to leave. What is asked of it must not depend on who
    /// the server turns out to be: it leaves once the host key is trusted, and before anything else is known.
    pub fn open_with_login(&mut self, early: EarlySession) {
        self.early = Early::Wanted(early);
    }

    /// The session, and whether its requests have left with it; none where it was not opened like this, or the login was not enough.
    pub fn early_session(&self) -> Option<(ChannelId, bool)> {
        match self.early {
            Early::Sent { id, with_requests } => Some((id, with_requests)),
            _ => None,
        }
    }

    /// Whether one has left, whatever became of it.
    pub fn early_was_sent(&self) -> bool {
        matches!(self.early, Early::Sent { .. } | Early::Void)
    }

    /// Whether one has left, and the server has said nothing since that shows that it bears it.
    pub fn early_may_be_unwelcome(&self) -> bool {
        match self.early {
            Early::Sent { .. } => true,
            // The answer to the login, and no other.
            Early::Void => self.auth.answers() <= 1,
            Early::Nothing | Early::Wanted(_) => false,
        }
    }

    /// Whether the server has not said yet whether it is open.
    pub fn early_is_awaited(&self) -> bool {
        let Some((id, _)) = self.early_session() else { return false };
        self.base.connection.channels.get(&id.0).is_some_and(|channel| channel.phase == Phase::Opening)
    }

    /// The number that the server gave to the session.
    pub fn early_number(&self) -> Option<u32> {
        let (id, _) = self.early_session()?;
        let channel = self.base.connection.channels.get(&id.0)?;
        (channel.phase != Phase::Opening).then_some(channel.peer_id)
    }

    /// A login has left: what is wanted with it follows.
    pub(crate) fn follow_login(&mut self, is_signed: bool, now: Instant) -> Result<(), SshError> {
        let Early::Wanted(early) = std::mem::take(&mut self.early) else { return Ok(()) };
        let is_unwelcome = early.unless.as_deref() == Some(self.base.transport.peer_identification());
        if !is_signed || is_unwelcome {
            return Ok(());
        }
        let transport = &mut self.base.transport;
        let id = self.base.connection.open(b"session", b"", transport, now)?;
        // How long the answer takes says how long a login takes, and not how long the way is.
        self.base.connection.round_trips.give_up();
        let with_requests = early.number.is_some() && !early.requests.is_empty();
        if let Some(number) = early.number.filter(|_| with_requests) {
            self.base.connection.presume(id, number, &early.requests, transport)?;
        }
        self.early = Early::Sent { id, with_requests };
        Ok(())
    }

    /// Asks something that is answered at once, where the early session has just been: windows grow by how long the way is, and nothing has told that.
    pub(crate) fn time_after_early(&mut self, now: Instant) -> Result<(), SshError> {
        if self.early_is_awaited() {
            return Ok(());
        }
        self.base.connection.send_keepalive(&mut self.base.transport, now)
    }

    /// The login was not enough: nothing was opened.
    pub(crate) fn void_early(&mut self) {
        if let Early::Sent { id, .. } = self.early {
            self.base.connection.forget(id.0);
            self.early = Early::Void;
        }
    }
}
