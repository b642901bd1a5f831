//! What a client asks of a server once logged in: channels, data, ports, proofs.

use std::time::Instant;

use bytes::Bytes;
use lantern_keys::PublicKey;
use lantern_keys::wire::Writer;

use crate::base::channel_methods;
use crate::channel::{ChannelEnded, ChannelId, Stream};
use crate::global::GlobalTicket;
use crate::message::connection::{OpenFailure, SessionRequest};
use crate::message::peer_channel::{DirectTcpip, PeerChannel};
use crate::{Client, ListenAt, SshError};

impl Client {
    /// Opens a session channel (RFC 4254 §6.1).
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login or with too many channels; what ended the connection.
    pub fn open_session(&mut self, now: Instant) -> Result<ChannelId, SshError> {
        self.after_login()?;
        self.base.connection.open(b"session", b"", &mut self.base.transport, now)
    }

    /// Opens a channel to a place that the server reaches (RFC 4254 §7.2).
    ///
    /// # Errors
    /// As [`Self::open_session`].
    pub fn open_direct(&mut self, to: &DirectTcpip, now: Instant) -> Result<ChannelId, SshError> {
        self.after_login()?;
        self.base.connection.open(DirectTcpip::TYPE, &to.encode(), &mut self.base.transport, now)
    }

    /// Opens a channel to a unix socket on the server (the public notes on streamlocal).
    ///
    /// # Errors
    /// As [`Self::open_session`].
    pub fn open_streamlocal(&mut self, path: &str, now: Instant) -> Result<ChannelId, SshError> {
        self.after_login()?;
        let (channel_type, rest) = PeerChannel::DirectUnix(path.to_owned()).encode();
        self.base.connection.open(channel_type, &rest, &mut self.base.transport, now)
    }

    /// Answers [`crate::ChannelEvent::OpenWanted`].
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel does not await an answer; what ended the connection.
    pub fn answer_open(&mut self, id: ChannelId, answer: Result<(), OpenFailure>) -> Result<(), SshError> {
        self.base.alive()?;
        self.base.connection.answer_open(id, answer, &mut self.base.transport)
    }

    /// Asks the server to listen for us; [`crate::GlobalEvent::Listening`] follows with the ticket.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login; too many requests without an answer; what ended the connection.
    pub fn listen(&mut self, at: &ListenAt) -> Result<GlobalTicket, SshError> {
        self.after_login()?;
        self.base.connection.globals.listen(at, &mut self.base.transport)
    }

    /// Asks the server to stop listening there.
    ///
    /// # Errors
    /// As [`Self::listen`].
    pub fn stop_listening(&mut self, at: &ListenAt) -> Result<(), SshError> {
        self.after_login()?;
        self.base.connection.globals.stop_listening(at, &mut self.base.transport)
    }

    /// Asks for a sign of life now, whenever the next one would be due.
    ///
    /// # Errors
    /// As [`Self::listen`].
    pub fn ask_for_life(&mut self, now: Instant) -> Result<(), SshError> {
        self.after_login()?;
        self.base.connection.send_keepalive(&mut self.base.transport, now)
    }

    /// Asks the server to prove that it holds these keys of its announcement; [`crate::GlobalEvent::HostKeysProven`] follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login, or while another proof is awaited; what ended the connection.
    pub fn prove_host_keys(&mut self, keys: Vec<PublicKey>) -> Result<(), SshError> {
        self.after_login()?;
        self.base.connection.globals.prove_host_keys(keys, &mut self.base.transport)
    }

    fn after_login(&self) -> Result<(), SshError> {
        self.base.alive()?;
        match self.auth.is_done() {
            true => Ok(()),
            false => Err(SshError::Misuse("channels open after login")),
        }
    }

    /// Makes a request on a channel; with `want_reply`, [`crate::ChannelEvent::Reply`] follows.
    ///
    /// # Errors
    /// [`ChannelEnded`]
    pub fn channel_request(
        &mut self,
        id: ChannelId,
        request: &SessionRequest,
        want_reply: bool,
    ) -> Result<(), ChannelEnded> {
        self.base.request(id, request, want_reply, false)
    }

    /// Hands data over, as much as there is room for, which is taken off its front; [`crate::ChannelEvent::Writable`]
    /// follows when it was not all.
    ///
    /// # Errors
    /// [`ChannelEnded`], also after [`Self::channel_eof`].
    pub fn channel_send(&mut self, id: ChannelId, data: &mut Bytes) -> Result<usize, ChannelEnded> {
        self.base.alive().map_err(|_| ChannelEnded)?;
        self.base.connection.send(id, Stream::Main, data)
    }

    channel_methods!();
}
