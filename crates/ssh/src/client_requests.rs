//! What a client asks of a server once logged in: channels, data, ports, proofs.

use std::time::Instant;

use lantern_keys::PublicKey;

use crate::channel::{ChannelId, Stream};
use crate::message::connection::{DirectTcpip, SessionRequest};
use crate::{Client, SshError};

impl Client {
    /// Opens a session channel (RFC 4254 §6.1).
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login or with too many channels.
    pub fn open_session(&mut self, now: Instant) -> Result<ChannelId, SshError> {
        self.after_login()?;
        self.connection.open(b"session", b"", &mut self.transport, now)
    }

    /// Opens a channel to a place that the server reaches (RFC 4254 §7.2).
    ///
    /// # Errors
    /// As [`Self::open_session`].
    pub fn open_direct(&mut self, to: &DirectTcpip, now: Instant) -> Result<ChannelId, SshError> {
        self.after_login()?;
        self.connection.open(DirectTcpip::TYPE, &to.encode(), &mut self.transport, now)
    }

    /// Asks the server to listen at an address of its own, port 0 for one that it chooses; [`GlobalEvent::Listening`] follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login.
    pub fn listen(&mut self, address: &str, port: u16) -> Result<(), SshError> {
        self.after_login()?;
        self.connection.globals.listen(address, port, &mut self.transport)
    }

    /// Asks the server to stop listening there.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login.
    pub fn stop_listening(&mut self, address: &str, port: u16) -> Result<(), SshError> {
        self.after_login()?;
        self.connection.globals.stop_listening(address, port, &mut self.transport)
    }

    /// Asks the server to prove that it holds these keys of its announcement; [`GlobalEvent::HostKeysProven`] follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login.
    pub fn prove_host_keys(&mut self, keys: Vec<PublicKey>) -> Result<(), SshError> {
        self.after_login()?;
        self.connection.globals.prove_host_keys(keys, &mut self.transport)
    }

    fn after_login(&self) -> Result<(), SshError> {
        match self.auth.is_done() {
            true => Ok(()),
            false => Err(SshError::Misuse("channels open after login")),
        }
    }

    /// Makes a request on a channel; with `want_reply`, [`ChannelEvent::Reply`] follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_request(
        &mut self,
        id: ChannelId,
        request: &SessionRequest,
        want_reply: bool,
    ) -> Result<(), SshError> {
        self.connection.request(id, request, want_reply, &mut self.transport)
    }

    /// Sends data; takes as much as there is room for, and [`ChannelEvent::Writable`] follows when it was not all.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open for sending.
    pub fn channel_send(&mut self, id: ChannelId, data: &[u8], now: Instant) -> Result<usize, SshError> {
        let taken = self.connection.send(id, Stream::Main, data, &mut self.transport)?;
        self.transport.rekey_if_due(now)?;
        Ok(taken)
    }

    /// Says that no more data follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_eof(&mut self, id: ChannelId) -> Result<(), SshError> {
        self.connection.eof(id, &mut self.transport)
    }

    /// Closes a channel; [`ChannelEvent::Closed`] follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_close(&mut self, id: ChannelId) -> Result<(), SshError> {
        self.connection.close(id, &mut self.transport)
    }

    /// Notes that received data has been used: this is what lets the server send more.
    ///
    /// # Errors
    /// Only internal ones.
    pub fn channel_consumed(&mut self, id: ChannelId, bytes: usize, now: Instant) -> Result<(), SshError> {
        self.connection.consumed(id, bytes, &mut self.transport, now)
    }
}
