//! What the caller does with channels: data out, requests, end and close, and credit for data that was used.

use std::time::Instant;

use lantern_keys::wire::Writer;

use super::{ChannelEvent, ChannelId, RecvState, SendState, Stream};
use crate::SshError;
use crate::connection::{Connection, SSH_EXTENDED_DATA_STDERR, send_close, send_reply};
use crate::limits::{MAX_CHANNEL_PACKET, MAX_UNANSWERED_REQUESTS, SEND_HIGH_WATER, SEND_LOW_WATER};
use crate::message::connection::SessionRequest;
use crate::message::number;
use crate::transport::Transport;

/// Bytes of number, recipient, type and length in front of channel data, at most.
const DATA_HEADER_LEN: usize = 1 + 4 + 4 + 4;
const _: () = assert!(MAX_CHANNEL_PACKET as usize + DATA_HEADER_LEN + 64 < crate::limits::MAX_PACKET_LEN);

impl Connection {
    /// Notes that `bytes` of received data are used, and widens the window when it is time.
    pub(crate) fn consumed(
        &mut self,
        id: ChannelId,
        bytes: usize,
        transport: &mut Transport,
        now: Instant,
    ) -> Result<(), SshError> {
        let rtt = self.round_trips.smallest();
        let Some(channel) = self.channels.get_mut(&id.0) else { return Ok(()) };
        let Some(adjust) = channel.recv_window.on_consumed(bytes, now, rtt) else { return Ok(()) };
        if channel.recv == RecvState::Finished || channel.send == SendState::Closed {
            return Ok(());
        }
        let peer_id = channel.peer_id;
        transport.send(|out| {
            out.put_byte(number::CHANNEL_WINDOW_ADJUST);
            out.put_uint32(peer_id);
            out.put_uint32(adjust);
        })
    }

    /// Sends as much of `data` as windows and buffers allow; the number of bytes taken.
    pub(crate) fn send(
        &mut self,
        id: ChannelId,
        stream: Stream,
        data: &[u8],
        transport: &mut Transport,
    ) -> Result<usize, SshError> {
        let channel = self.open_channel(id)?;
        if channel.send != SendState::Open {
            return Err(SshError::Misuse("no data can follow EOF on a channel"));
        }
        let mut taken = 0;
        while taken < data.len() {
            let room =
                channel.send_window.left().min(channel.peer_max_packet).min(MAX_CHANNEL_PACKET) as usize;
            if room == 0 || !transport.can_send() || transport.pending().len() >= SEND_HIGH_WATER {
                channel.wants_room = true;
                break;
            }
            let rest = data.get(taken..).unwrap_or_default();
            let chunk = rest.get(..room).unwrap_or(rest);
            let peer_id = channel.peer_id;
            transport.send(|out| {
                match stream {
                    Stream::Main => out.put_byte(number::CHANNEL_DATA),
                    Stream::Stderr => out.put_byte(number::CHANNEL_EXTENDED_DATA),
                }
                out.put_uint32(peer_id);
                if stream == Stream::Stderr {
                    out.put_uint32(SSH_EXTENDED_DATA_STDERR);
                }
                out.put_string(chunk);
            })?;
            channel.send_window.take(chunk.len() as u32);
            taken += chunk.len();
        }
        Ok(taken)
    }

    /// Tells channels that were refused for lack of room that there is some again.
    pub(crate) fn room_again(&mut self, transport: &Transport) {
        if !transport.can_send() || transport.pending().len() > SEND_LOW_WATER {
            return;
        }
        for (&id, channel) in &mut self.channels {
            if channel.wants_room && channel.send_window.left() > 0 {
                channel.wants_room = false;
                self.events.push_back((ChannelId(id), ChannelEvent::Writable));
            }
        }
    }

    pub(crate) fn request(
        &mut self,
        id: ChannelId,
        request: &SessionRequest,
        want_reply: bool,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let channel = self.open_channel(id)?;
        if channel.send == SendState::Closed {
            return Err(SshError::Misuse("the channel is being closed"));
        }
        if want_reply {
            if channel.unanswered.len() >= MAX_UNANSWERED_REQUESTS {
                return Err(SshError::Misuse("too many requests await an answer"));
            }
            channel.unanswered.push_back(static_name(request));
        }
        let peer_id = channel.peer_id;
        // From now on the server may come back for it.
        self.agent_forwarded |= *request == SessionRequest::ForwardAgent;
        transport.send(|out| request.encode(peer_id, want_reply, out))
    }

    pub(crate) fn reply(
        &mut self,
        id: ChannelId,
        granted: bool,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let peer_id = self.open_channel(id)?.peer_id;
        send_reply(peer_id, granted, transport)
    }

    pub(crate) fn eof(&mut self, id: ChannelId, transport: &mut Transport) -> Result<(), SshError> {
        let channel = self.open_channel(id)?;
        if channel.send != SendState::Open {
            return Ok(());
        }
        channel.send = SendState::Finished;
        let peer_id = channel.peer_id;
        transport.send(|out| {
            out.put_byte(number::CHANNEL_EOF);
            out.put_uint32(peer_id);
        })
    }

    pub(crate) fn close(&mut self, id: ChannelId, transport: &mut Transport) -> Result<(), SshError> {
        let channel = self.open_channel(id)?;
        if channel.send == SendState::Closed {
            return Ok(());
        }
        channel.send = SendState::Closed;
        let peer_id = channel.peer_id;
        send_close(peer_id, transport)
    }
}

/// The name of a request of ours, to label its answer.
fn static_name(request: &SessionRequest) -> &'static str {
    match request {
        SessionRequest::Env { .. } => "env",
        SessionRequest::Pty(_) => "pty-req",
        SessionRequest::Shell => "shell",
        SessionRequest::Exec(_) => "exec",
        SessionRequest::Subsystem(_) => "subsystem",
        SessionRequest::Display(_) => "display forwarding",
        SessionRequest::ForwardAgent => "agent forwarding",
        _ => "other",
    }
}
