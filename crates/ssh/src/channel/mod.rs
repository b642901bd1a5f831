//! One channel: its windows, its two directions, and the requests that await an answer (RFC 4254 §5).

mod operations;
pub(crate) mod window;

use std::collections::VecDeque;

use bytes::Bytes;

use crate::message::connection::{DirectTcpip, OpenFailure, SessionRequest};
use window::{RecvWindow, SendWindow};

/// A channel of one connection, by our number for it. Numbers are not used twice on a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ChannelId(pub(crate) u32);

impl std::fmt::Display for ChannelId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "channel {}", self.0)
    }
}

/// Which stream of a session data belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Stream {
    /// Standard input or output.
    Main,
    /// Standard error: extended data of type 1 (RFC 4254 §5.2).
    Stderr,
}

/// What happens on a channel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChannelEvent {
    /// The peer confirmed it.
    Opened,
    /// The peer opened it, to the agent that we forward.
    OpenedToAgent,
    /// A client wants it connected with this; our server role answers with `answer_open`.
    OpenWanted(DirectTcpip),
    /// The peer refused it; the channel is gone.
    OpenFailed(OpenFailure),
    /// Data came in. Say when it has been used with `channel_consumed`, or the peer runs out of window.
    Data(Stream, Bytes),
    /// The peer sends no more data.
    Eof,
    /// The peer asks for something. Our server role answers with `channel_reply` when `want_reply`.
    Request {
        /// What.
        request: SessionRequest,
        /// Whether it waits for an answer.
        want_reply: bool,
    },
    /// The answer to the oldest unanswered request of ours that wanted one.
    Reply {
        /// The request's name.
        request: &'static str,
        /// Whether it was granted.
        granted: bool,
    },
    /// There is room to send again after `channel_send` took less than everything.
    Writable,
    /// Both sides have closed it; the channel is gone.
    Closed,
}

/// The life of a channel as a whole; its directions have their own state inside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Phase {
    /// Our CHANNEL_OPEN is out.
    Opening,
    /// The peer's CHANNEL_OPEN awaits our answer.
    Asked,
    Open,
}

/// The sending direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SendState {
    Open,
    /// EOF sent.
    Finished,
    /// CLOSE sent.
    Closed,
}

/// The receiving direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RecvState {
    Open,
    /// EOF received.
    Finished,
}

#[derive(Debug)]
pub(crate) struct Channel {
    pub(crate) phase: Phase,
    pub(crate) peer_id: u32,
    pub(crate) send_window: SendWindow,
    pub(crate) recv_window: RecvWindow,
    pub(crate) peer_max_packet: u32,
    pub(crate) send: SendState,
    pub(crate) recv: RecvState,
    /// The caller was told that there is no room, and is to hear when there is.
    pub(crate) wants_room: bool,
    /// Names of our requests that wanted an answer, oldest first (RFC 4254 §5.4: answers come in order).
    pub(crate) unanswered: VecDeque<&'static str>,
}

impl Channel {
    pub(crate) fn opening() -> Self {
        Self {
            phase: Phase::Opening,
            peer_id: 0,
            send_window: SendWindow::default(),
            recv_window: RecvWindow::new(),
            peer_max_packet: 0,
            send: SendState::Open,
            recv: RecvState::Open,
            wants_room: false,
            unanswered: VecDeque::new(),
        }
    }

    pub(crate) fn confirm(&mut self, peer_id: u32, window: u32, max_packet: u32) {
        self.phase = Phase::Open;
        self.peer_id = peer_id;
        self.send_window = SendWindow::new(window);
        self.peer_max_packet = max_packet;
    }
}
