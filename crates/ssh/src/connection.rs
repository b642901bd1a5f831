//! The connection protocol (RFC 4254): channels and global requests, the same for both roles.

use std::collections::{BTreeMap, VecDeque};
use std::time::Instant;

use bytes::{Buf, Bytes};
use lantern_keys::wire::{Reader, Writer};
use tracing::debug;

use crate::channel::window::initial_window;
use crate::channel::{Channel, ChannelEvent, ChannelId, Phase, RecvState, Schedule, SendState, Stream};
use crate::global::GlobalRequests;
use crate::limits::{MAX_ASKED, MAX_CHANNEL_PACKET, MAX_CHANNELS, SHARE_BELOW};
use crate::message::connection::{ChannelOpen, ChannelOpenConfirmation, OpenFailure, SessionRequest};
use crate::message::number;
use crate::message::peer_channel::{PeerChannel, SESSION_TYPE};
use crate::rtt::RoundTrips;
use crate::transport::Transport;
use crate::{Role, SshError};

/// Extended data type of standard error (RFC 4254 §5.2).
pub(crate) const SSH_EXTENDED_DATA_STDERR: u32 = 1;

pub(crate) struct Connection {
    role: Role,
    pub(crate) channels: BTreeMap<u32, Channel>,
    next_id: u32,
    /// Channels that wait for our answer.
    asked: usize,
    pub(crate) schedule: Schedule,
    /// The sizes of all receive windows, in bytes: what the peer may send before anything is used.
    pub(crate) windows: u64,
    /// Received data that was not taken yet, in bytes.
    pub(crate) received_bytes: usize,
    /// Data that waits to be made into packets, in bytes.
    pub(crate) queued_bytes: usize,
    pub(crate) events: VecDeque<(ChannelId, ChannelEvent)>,
    /// Keepalives without an answer.
    pub(crate) unanswered_keepalives: u32,
    pub(crate) round_trips: RoundTrips,
    pub(crate) globals: GlobalRequests,
    /// Whether the caller decides about sessions, too.
    pub(crate) asks_about_sessions: bool,
}

impl Connection {
    pub(crate) fn new(role: Role) -> Self {
        Self {
            role,
            channels: BTreeMap::new(),
            next_id: 0,
            asked: 0,
            schedule: Schedule::default(),
            windows: 0,
            received_bytes: 0,
            queued_bytes: 0,
            events: VecDeque::new(),
            unanswered_keepalives: 0,
            round_trips: RoundTrips::default(),
            globals: GlobalRequests::default(),
            asks_about_sessions: false,
        }
    }

    /// The same with another number for the first channel.
    pub(crate) fn numbered_from(role: Role, first: u32) -> Self {
        Self { next_id: first, ..Self::new(role) }
    }

    pub(crate) fn poll_event(&mut self) -> Option<(ChannelId, ChannelEvent)> {
        self.events.pop_front()
    }

    /// A channel of ours, with a receive window that fits beside those of the others.
    fn new_channel(&mut self) -> Channel {
        let window = initial_window(self.windows);
        self.windows += u64::from(window);
        Channel::opening(window)
    }

    /// Opens a channel; `rest` is what its type adds.
    pub(crate) fn open(
        &mut self,
        channel_type: &[u8],
        rest: &[u8],
        transport: &mut Transport,
        now: Instant,
    ) -> Result<ChannelId, SshError> {
        if self.channels.len() >= MAX_CHANNELS {
            return Err(SshError::Misuse("too many channels are open"));
        }
        let sender = self.take_number()?;
        let channel = self.new_channel();
        let window = channel.recv_window.size();
        self.channels.insert(sender, channel);
        let open = ChannelOpen { channel_type, sender, window, max_packet: MAX_CHANNEL_PACKET, rest };
        transport.send(|out| open.encode(out))?;
        self.round_trips.ask(now);
        Ok(ChannelId(sender))
    }

    /// Asks whether the peer is still there.
    pub(crate) fn send_keepalive(&mut self, transport: &mut Transport, now: Instant) -> Result<(), SshError> {
        self.unanswered_keepalives += 1;
        self.round_trips.ask(now);
        self.globals.send_keepalive(transport)
    }

    /// A message of the connection protocol. `payload` is the whole one, so that data can be handed on uncopied.
    pub(crate) fn handle(
        &mut self,
        payload: Bytes,
        transport: &mut Transport,
        now: Instant,
    ) -> Result<(), SshError> {
        let (message, mut reader) = crate::message::open(&payload)?;
        match message {
            number::GLOBAL_REQUEST => self.globals.handle_request(self.role, reader, transport),
            number::REQUEST_SUCCESS | number::REQUEST_FAILURE => {
                self.unanswered_keepalives = 0;
                self.round_trips.answer(now);
                self.globals.handle_answer(message == number::REQUEST_SUCCESS, &mut reader, transport)
            }
            number::CHANNEL_OPEN => self.handle_open(reader, transport),
            number::CHANNEL_OPEN_CONFIRMATION => self.handle_confirmation(reader, transport, now),
            number::CHANNEL_OPEN_FAILURE => self.handle_open_failure(reader),
            number::CHANNEL_WINDOW_ADJUST..=number::CHANNEL_FAILURE => {
                let id = reader.u32("recipient channel").map_err(SshError::malformed("channel message"))?;
                self.handle_channel_message(message, ChannelId(id), payload.clone(), transport)
            }
            // Known, and not in its place: a message of login, or of the other role.
            met @ (number::SERVICE_REQUEST | number::SERVICE_ACCEPT | 50..=79) => {
                Err(SshError::Unexpected { expected: "the connection protocol", met })
            }
            met => {
                // RFC 4253 §11.4: an unknown message is answered, not fatal.
                let sequence = transport.receiver().direction.sequence.wrapping_sub(1);
                debug!(met, "unimplemented message");
                transport.send(|out| {
                    out.put_byte(number::UNIMPLEMENTED);
                    out.put_uint32(sequence);
                })
            }
        }
    }

    fn handle_open(&mut self, reader: Reader<'_>, transport: &mut Transport) -> Result<(), SshError> {
        let open = ChannelOpen::decode(reader).map_err(SshError::malformed("CHANNEL_OPEN"))?;
        let wanted = PeerChannel::decode(self.role, &open)?;
        let (code, description) = match (self.role, open.channel_type, wanted) {
            _ if self.channels.len() >= MAX_CHANNELS || self.asked >= MAX_ASKED => {
                (OpenFailure::RESOURCE_SHORTAGE, "too many channels")
            }
            (Role::Server, SESSION_TYPE, _) if !self.asks_about_sessions => {
                return self.accept(&open, transport);
            }
            // RFC 4254 §6.1: a client refuses sessions opened by the server.
            (Role::Client, SESSION_TYPE, _) => (OpenFailure::PROHIBITED, "a client runs nothing"),
            (_, _, Some(wanted)) => return self.ask_about(&open, wanted),
            (_, _, None) => (OpenFailure::UNKNOWN_TYPE, "not a channel type of ours"),
        };
        let failure = OpenFailure { code, description: description.to_owned() };
        transport.send(|out| failure.encode(open.sender, out))
    }

    fn accept(&mut self, open: &ChannelOpen<'_>, transport: &mut Transport) -> Result<(), SshError> {
        let id = self.take_number()?;
        let mut channel = self.new_channel();
        channel.confirm(open.sender, open.window, open.max_packet)?;
        let window = channel.recv_window.size();
        self.channels.insert(id, channel);
        self.events.push_back((ChannelId(id), ChannelEvent::Opened));
        send_confirmation(open.sender, id, window, transport)
    }

    /// Leaves it to the caller whether a channel is opened.
    fn ask_about(&mut self, open: &ChannelOpen<'_>, wanted: PeerChannel) -> Result<(), SshError> {
        let id = self.take_number()?;
        let mut channel = self.new_channel();
        channel.confirm(open.sender, open.window, open.max_packet)?;
        channel.phase = Phase::Asked;
        self.channels.insert(id, channel);
        self.asked += 1;
        self.events.push_back((ChannelId(id), ChannelEvent::OpenWanted(wanted)));
        Ok(())
    }

    /// The caller's answer to [`ChannelEvent::OpenWanted`].
    pub(crate) fn answer_open(
        &mut self,
        id: ChannelId,
        answer: Result<(), OpenFailure>,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let channel = self.channels.get_mut(&id.0).filter(|channel| channel.phase == Phase::Asked);
        let channel = channel.ok_or(SshError::Misuse("no channel awaits an answer"))?;
        let peer_id = channel.peer_id;
        self.asked = self.asked.saturating_sub(1);
        match answer {
            Ok(()) => {
                channel.phase = Phase::Open;
                let window = channel.recv_window.size();
                send_confirmation(peer_id, id.0, window, transport)
            }
            Err(failure) => {
                self.forget(id.0);
                transport.send(|out| failure.encode(peer_id, out))
            }
        }
    }

    fn take_number(&mut self) -> Result<u32, SshError> {
        let id = self.next_id;
        self.next_id = id.checked_add(1).ok_or(SshError::Misuse("channel numbers are used up"))?;
        Ok(id)
    }

    fn handle_confirmation(
        &mut self,
        reader: Reader<'_>,
        transport: &mut Transport,
        now: Instant,
    ) -> Result<(), SshError> {
        let message = ChannelOpenConfirmation::decode(reader)
            .map_err(SshError::malformed("CHANNEL_OPEN_CONFIRMATION"))?;
        let channel = self.channels.get_mut(&message.recipient).filter(|c| c.phase == Phase::Opening);
        let channel =
            channel.ok_or(SshError::PeerBroke { rule: "it confirmed a channel that was not asked for" })?;
        channel.confirm(message.sender, message.window, message.max_packet)?;
        self.round_trips.answer(now);
        if channel.is_released {
            // Nobody waits for it any more.
            channel.send = SendState::Closed;
            return send_close(message.sender, transport);
        }
        self.events.push_back((ChannelId(message.recipient), ChannelEvent::Opened));
        Ok(())
    }

    fn handle_open_failure(&mut self, reader: Reader<'_>) -> Result<(), SshError> {
        let (id, failure) =
            OpenFailure::decode(reader).map_err(SshError::malformed("CHANNEL_OPEN_FAILURE"))?;
        match self.channels.get(&id) {
            Some(channel) if channel.phase == Phase::Opening => {
                if !channel.is_released {
                    self.events.push_back((ChannelId(id), ChannelEvent::OpenFailed(failure)));
                }
                self.forget(id);
                // The next answer belongs to another question.
                self.round_trips.give_up();
                Ok(())
            }
            _ => Err(SshError::PeerBroke { rule: "it refused a channel that was not asked for" }),
        }
    }

    fn handle_channel_message(
        &mut self,
        message: u8,
        id: ChannelId,
        mut payload: Bytes,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let channel = self.channels.get_mut(&id.0).filter(|channel| channel.phase == Phase::Open);
        let channel = channel
            .ok_or(SshError::PeerBroke { rule: "it used a channel that is not open (RFC 4254 §5)" })?;
        // The number and the recipient have been read.
        payload.advance(5);
        let mut reader = Reader::new(&payload);
        match message {
            number::CHANNEL_WINDOW_ADJUST => {
                let bytes =
                    reader.u32("bytes to add").map_err(SshError::malformed("CHANNEL_WINDOW_ADJUST"))?;
                channel.send_window.grow(bytes)?;
                self.schedule(id.0);
                Ok(())
            }
            number::CHANNEL_DATA | number::CHANNEL_EXTENDED_DATA => self.handle_data(message, id, payload),
            number::CHANNEL_EOF => {
                channel.recv = RecvState::Finished;
                if !channel.is_released {
                    self.events.push_back((id, ChannelEvent::Eof));
                }
                Ok(())
            }
            number::CHANNEL_CLOSE => {
                let peer_id = channel.peer_id;
                let closed_already = channel.send == SendState::Closed;
                channel.phase = Phase::Ended;
                channel.send = SendState::Closed;
                // What still waited has nowhere to go.
                self.queued_bytes -= channel.outgoing.clear();
                match channel.is_released {
                    true => self.forget(id.0),
                    false => self.events.push_back((id, ChannelEvent::Closed)),
                }
                if closed_already { Ok(()) } else { send_close(peer_id, transport) }
            }
            number::CHANNEL_REQUEST => {
                let (want_reply, request) =
                    SessionRequest::decode(reader).map_err(SshError::malformed("CHANNEL_REQUEST"))?;
                debug!(channel = id.0, request = request.name(), want_reply, "channel request");
                if self.role == Role::Client && want_reply && channel.send != SendState::Closed {
                    // Nothing that a server asks of a client's session is granted; keepalives want just an answer.
                    let peer_id = channel.peer_id;
                    send_reply(peer_id, false, transport)?;
                }
                if !channel.is_released {
                    self.events.push_back((id, ChannelEvent::Request { request, want_reply }));
                }
                Ok(())
            }
            number::CHANNEL_SUCCESS | number::CHANNEL_FAILURE => {
                let granted = message == number::CHANNEL_SUCCESS;
                let request = channel.unanswered.pop_front();
                let request =
                    request.ok_or(SshError::PeerBroke { rule: "it answered a request that was not made" })?;
                if !channel.is_released {
                    self.events.push_back((id, ChannelEvent::Reply { request, granted }));
                }
                Ok(())
            }
            met => Err(SshError::Unexpected { expected: "a channel message", met }),
        }
    }

    /// Data behind the recipient: counted against the window and handed on without a copy.
    fn handle_data(&mut self, message: u8, id: ChannelId, mut payload: Bytes) -> Result<(), SshError> {
        let malformed = SshError::malformed("CHANNEL_DATA");
        let mut reader = Reader::new(&payload);
        let stream = match message {
            number::CHANNEL_DATA => Some(Stream::Main),
            _ => match reader.u32("data type").map_err(&malformed)? {
                SSH_EXTENDED_DATA_STDERR => Some(Stream::Stderr),
                _ => None,
            },
        };
        let len = reader.string("data").map_err(&malformed)?.len();
        reader.finish().map_err(malformed)?;
        payload.advance(payload.len() - len);
        let may_share = self.received_bytes < SHARE_BELOW;
        let Some(channel) = self.channels.get_mut(&id.0) else { return Ok(()) };
        if channel.recv != RecvState::Open {
            return Err(SshError::PeerBroke { rule: "it must not send data after EOF (RFC 4254 §5.3)" });
        }
        if len > MAX_CHANNEL_PACKET as usize {
            return Err(SshError::PeerBroke {
                rule: "it must not send more in a packet than the maximum packet size (RFC 4254 §5.2)",
            });
        }
        channel.recv_window.on_data(len)?;
        if len == 0 || channel.is_released {
            return Ok(());
        }
        // Data of unknown type still takes window: it is passed on as standard error.
        let stream = stream.unwrap_or(Stream::Stderr);
        let received = channel.stream(stream);
        let was_empty = received.is_empty();
        received.push(payload, may_share);
        self.received_bytes += len;
        if was_empty {
            self.events.push_back((id, ChannelEvent::Readable(stream)));
        }
        Ok(())
    }

    /// What the peer makes us hold here at most, as it stands now, in bytes: data that was not taken, in slices of blocks
    /// or copied, and events that were not polled.
    pub(crate) fn held_bytes(&self) -> usize {
        let shared = self.received_bytes.min(SHARE_BELOW) * crate::limits::SHARED_BLOCKS;
        shared
            + self.received_bytes
            + self.queued_bytes
            + self.globals.held_bytes()
            + self.events.len() * size_of::<(ChannelId, ChannelEvent)>()
            + self.channels.len() * size_of::<Channel>()
    }
}

fn send_confirmation(peer_id: u32, id: u32, window: u32, transport: &mut Transport) -> Result<(), SshError> {
    let confirmation =
        ChannelOpenConfirmation { recipient: peer_id, sender: id, window, max_packet: MAX_CHANNEL_PACKET };
    transport.send(|out| confirmation.encode(out))
}

pub(crate) fn send_close(peer_id: u32, transport: &mut Transport) -> Result<(), SshError> {
    transport.send(|out| {
        out.put_byte(number::CHANNEL_CLOSE);
        out.put_uint32(peer_id);
    })
}

pub(crate) fn send_reply(peer_id: u32, granted: bool, transport: &mut Transport) -> Result<(), SshError> {
    transport.send(|out| {
        out.put_byte(if granted { number::CHANNEL_SUCCESS } else { number::CHANNEL_FAILURE });
        out.put_uint32(peer_id);
    })
}
