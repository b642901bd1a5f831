//! What a machine of either role is made of: the transport, the channels over it, and an end that is final.

use std::time::Instant;

use crate::SshError;
use crate::channel::{ChannelEnded, ChannelId};
use crate::connection::Connection;
use crate::limits::MAX_PENDING;
use crate::message::connection::SessionRequest;
use crate::pace::Pace;
use crate::transport::Transport;

pub(crate) struct Base {
    pub(crate) transport: Transport,
    pub(crate) connection: Connection,
    pace: Pace,
    /// What ended the connection: nothing is taken from the peer, and nothing is made of what it sent, after that.
    failed: Option<SshError>,
}

impl Base {
    pub(crate) fn new(transport: Transport, connection: Connection) -> Self {
        Self { transport, connection, pace: Pace::default(), failed: None }
    }

    pub(crate) fn failure(&self) -> Option<&SshError> {
        self.failed.as_ref()
    }

    /// # Errors
    /// What ended the connection.
    pub(crate) fn alive(&self) -> Result<(), SshError> {
        self.failed.clone().map_or(Ok(()), Err)
    }

    /// Ends the connection for good; the first reason counts.
    pub(crate) fn fail(&mut self, error: SshError) -> SshError {
        self.transport.say_goodbye(&error);
        self.failed.get_or_insert(error).clone()
    }

    /// Ends the connection with these last words.
    pub(crate) fn disconnect(&mut self, code: u32, text: &str) {
        self.transport.disconnect(code, text);
        self.failed.get_or_insert(SshError::Closed { during: "by our own wish" });
    }

    /// The peer closed the line.
    pub(crate) fn end(&mut self) -> SshError {
        let error = self.transport.end();
        self.fail(error)
    }

    /// Whether what more input could make us answer still has room.
    pub(crate) fn has_room(&self) -> bool {
        self.failed.is_none() && self.transport.pending().len() < MAX_PENDING
    }

    /// Makes packets of what channels have waiting, as far ahead as the line takes them; what is to be sent.
    pub(crate) fn transmit(&mut self, now: Instant) -> &[u8] {
        if self.failed.is_none() {
            let filled = self.transport.rekey_if_due(now);
            let filled = filled.and_then(|()| self.connection.fill(&mut self.transport, self.pace.target()));
            if let Err(error) = filled {
                self.fail(error);
            }
        }
        self.transport.pending()
    }

    pub(crate) fn sent(&mut self, len: usize) {
        self.transport.sender().sent(len);
        self.pace.sent(len, self.transport.pending().len());
    }

    /// What the connection makes us hold at the worst, in bytes.
    pub(crate) fn held_bytes(&self) -> usize {
        self.transport.held_bytes() + self.connection.held_bytes()
    }

    pub(crate) fn request(
        &mut self,
        id: ChannelId,
        request: &SessionRequest,
        want_reply: bool,
        in_turn: bool,
    ) -> Result<(), ChannelEnded> {
        self.alive().map_err(|_| ChannelEnded)?;
        let made = self.connection.request(id, request, want_reply, in_turn, &mut self.transport);
        made.unwrap_or_else(|error| {
            self.fail(error);
            Err(ChannelEnded)
        })
    }

    pub(crate) fn release(&mut self, id: ChannelId) {
        if self.failed.is_none()
            && let Err(error) = self.connection.release(id, &mut self.transport)
        {
            self.fail(error);
        }
    }

    pub(crate) fn consumed(&mut self, id: ChannelId, bytes: usize, now: Instant) {
        if self.failed.is_none()
            && let Err(error) = self.connection.consumed(id, bytes, &mut self.transport, now)
        {
            self.fail(error);
        }
    }
}

/// What both roles do with their channels, in the same words.
macro_rules! channel_methods {
    () => {
        /// Says that no more data follows what was handed over; harmless on a channel that has ended.
        pub fn channel_eof(&mut self, id: ChannelId) {
            self.base.connection.eof(id);
        }

        /// Closes a channel behind what was handed over; [`crate::ChannelEvent::Closed`] follows.
        pub fn channel_close(&mut self, id: ChannelId) {
            self.base.connection.close(id);
        }

        /// Is through with a channel: drops what waits either way, closes it when it is not, and says no more about it.
        pub fn channel_release(&mut self, id: ChannelId) {
            self.base.release(id);
        }

        /// Takes a piece of what has come in on a stream of a channel; none: there is no more now.
        pub fn channel_take(&mut self, id: ChannelId, stream: Stream) -> Option<Bytes> {
            self.base.connection.take(id, stream)
        }

        /// Notes that received data has been used: this is what lets the peer send more.
        pub fn channel_consumed(&mut self, id: ChannelId, bytes: usize, now: Instant) {
            self.base.consumed(id, bytes, now);
        }

        /// Sends any payload at all, as a broken or hostile peer would: for tests of the other side.
        ///
        /// # Errors
        /// Only internal ones.
        pub fn send_anything(&mut self, payload: &[u8]) -> Result<(), SshError> {
            self.base.transport.send(|out| out.put(payload))
        }
    };
}

/// What both roles do the same as machines that are driven.
macro_rules! machine_methods {
    () => {
        fn poll_transmit(&mut self, now: Instant) -> &[u8] {
            self.base.transmit(now)
        }

        fn sent(&mut self, len: usize) {
            self.base.sent(len);
        }

        fn failure(&self) -> Option<&SshError> {
            self.base.failure()
        }

        fn handle_end(&mut self) -> SshError {
            self.base.end()
        }
    };
}

pub(crate) use {channel_methods, machine_methods};
