//! One channel: its windows, its two directions, and the requests that await an answer (RFC 4254 §5).

mod operations;
mod outgoing;
mod received;
mod schedule;
mod transmit;
pub(crate) mod window;

pub(crate) use operations::static_name;

use std::collections::VecDeque;

use crate::message::connection::{OpenFailure, SessionRequest};
use crate::message::peer_channel::PeerChannel;
pub(crate) use outgoing::{Outgoing, OutgoingQueue};
pub(crate) use received::Received;
pub(crate) use schedule::Schedule;
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

/// The channel has ended, by the peer's or our own doing: it takes nothing more. What came before can still be taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the channel has ended")]
pub struct ChannelEnded;

/// What happens on a channel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChannelEvent {
    /// It is open: the peer confirmed it, or our server role took a session.
    Opened,
    /// The peer wants it opened; answer with `answer_open`.
    OpenWanted(PeerChannel),
    /// The peer refused it; the channel is gone.
    OpenFailed(OpenFailure),
    /// Data came in on a stream that had none waiting. Take it with `channel_take` until there is no more, and say when it
    /// has been used with `channel_consumed`, or the peer runs out of window.
    Readable(Stream),
    /// The peer sends no more data than what waits.
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
    /// There is room again after `channel_send` took less than everything.
    Writable,
    /// The peer has closed it. What waits to be taken is there until `channel_release`.
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
    /// The peer has closed it: nothing more leaves, what came can be taken.
    Ended,
}

/// The sending direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum SendState {
    Open,
    /// The caller has no more data; EOF leaves behind what waits.
    Finished,
    /// The caller has closed the channel; CLOSE leaves behind what waits.
    Closing,
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
    /// The number that requests were made with before it was open.
    pub(crate) presumed: Option<u32>,
    pub(crate) send_window: SendWindow,
    pub(crate) recv_window: RecvWindow,
    /// Most data that the peer takes in one packet.
    pub(crate) peer_max_packet: u32,
    pub(crate) send: SendState,
    pub(crate) recv: RecvState,
    pub(crate) outgoing: OutgoingQueue,
    pub(crate) received: [Received; 2],
    /// It stands in the schedule.
    pub(crate) is_scheduled: bool,
    /// The caller was told that there is no room, and is to hear when there is.
    pub(crate) wants_room: bool,
    /// The caller is through with it: it goes as soon as the peer has closed it too.
    pub(crate) is_released: bool,
    /// Names of our requests that wanted an answer, oldest first (RFC 4254 §5.4: answers come in order).
    pub(crate) unanswered: VecDeque<&'static str>,
}

impl Channel {
    /// One that offers the peer this window, in bytes.
    pub(crate) fn opening(window: u32) -> Self {
        Self {
            phase: Phase::Opening,
            peer_id: 0,
            presumed: None,
            send_window: SendWindow::default(),
            recv_window: RecvWindow::new(window),
            peer_max_packet: 0,
            send: SendState::Open,
            recv: RecvState::Open,
            outgoing: OutgoingQueue::default(),
            received: Default::default(),
            is_scheduled: false,
            wants_room: false,
            is_released: false,
            unanswered: VecDeque::new(),
        }
    }

    pub(crate) fn confirm(
        &mut self,
        peer_id: u32,
        window: u32,
        max_packet: u32,
    ) -> Result<(), crate::SshError> {
        if max_packet == 0 {
            // Nothing could ever be sent, and whoever waits for it would wait for ever.
            return Err(crate::SshError::PeerBroke {
                rule: "the maximum packet size of a channel must not be 0 (RFC 4254 §5.1)",
            });
        }
        if self.presumed.is_some_and(|presumed| presumed != peer_id) {
            return Err(crate::SshError::EarlyUnwelcome);
        }
        self.phase = Phase::Open;
        self.peer_id = peer_id;
        self.send_window = SendWindow::new(window);
        self.peer_max_packet = max_packet;
        Ok(())
    }

    pub(crate) fn stream(&mut self, stream: Stream) -> &mut Received {
        let [main, error] = &mut self.received;
        match stream {
            Stream::Main => main,
            Stream::Stderr => error,
        }
    }

    /// Bytes that the peer has made us hold here.
    pub(crate) fn received_len(&self) -> usize {
        self.received.iter().map(Received::len).sum()
    }

    /// Whether the schedule is to know of it: something can leave.
    pub(crate) fn can_transmit(&self) -> bool {
        self.phase == Phase::Open
            && match self.outgoing.front() {
                None => false,
                Some(Outgoing::Data(..)) => self.send_window.left() > 0,
                Some(_) => true,
            }
    }
}
