//! What the caller does with channels: data out and in, requests, end and close, and credit for data that was used.

use std::time::Instant;

use bytes::Bytes;
use lantern_keys::wire::Writer;

use super::{ChannelEnded, ChannelId, Outgoing, Phase, RecvState, SendState, Stream};
use crate::SshError;
use crate::connection::{Connection, send_close, send_reply};
use crate::limits::{
    MAX_CHANNEL_QUEUE, MAX_QUEUED_BYTES, MAX_UNANSWERED_REQUESTS, MAX_WINDOWS, MIN_CHANNEL_QUEUE,
};
use crate::message::connection::SessionRequest;
use crate::message::number;
use crate::transport::Transport;

impl Connection {
    /// Takes what has come in on a stream, a piece at a time.
    pub(crate) fn take(&mut self, id: ChannelId, stream: Stream) -> Option<Bytes> {
        let piece = self.channels.get_mut(&id.0)?.stream(stream).pop()?;
        self.received_bytes -= piece.len();
        Some(piece)
    }

    /// Notes that `bytes` of received data are used, and widens the window when it is time.
    pub(crate) fn consumed(
        &mut self,
        id: ChannelId,
        bytes: usize,
        transport: &mut Transport,
        now: Instant,
    ) -> Result<(), SshError> {
        let rtt = self.round_trips.smallest();
        let may_grow = MAX_WINDOWS.saturating_sub(self.windows);
        let Some(channel) = self.channels.get_mut(&id.0) else { return Ok(()) };
        let before = channel.recv_window.size();
        let Some(adjust) = channel.recv_window.on_consumed(bytes, now, rtt, may_grow) else { return Ok(()) };
        self.windows += u64::from(channel.recv_window.size() - before);
        if channel.recv == RecvState::Finished
            || channel.send == SendState::Closed
            || channel.phase != Phase::Open
        {
            return Ok(());
        }
        let peer_id = channel.peer_id;
        transport.send(|out| {
            out.put_byte(number::CHANNEL_WINDOW_ADJUST);
            out.put_uint32(peer_id);
            out.put_uint32(adjust);
        })
    }

    /// Hands data over, as much as there is room for: that much is taken off the front of `data`. What is taken leaves in
    /// packets when it is this channel's turn.
    pub(crate) fn send(
        &mut self,
        id: ChannelId,
        stream: Stream,
        data: &mut Bytes,
    ) -> Result<usize, ChannelEnded> {
        let channel = self.channels.get_mut(&id.0).ok_or(ChannelEnded)?;
        if channel.phase != Phase::Open || channel.send != SendState::Open {
            return Err(ChannelEnded);
        }
        let limit = match self.queued_bytes < MAX_QUEUED_BYTES {
            true => MAX_CHANNEL_QUEUE,
            false => MIN_CHANNEL_QUEUE,
        };
        let room = limit.saturating_sub(channel.outgoing.bytes());
        if room < data.len() {
            channel.wants_room = true;
        }
        let taken = data.split_to(room.min(data.len()));
        let len = taken.len();
        if len > 0 {
            channel.outgoing.push_data(stream, taken);
            self.queued_bytes += len;
            self.schedule(id.0);
        }
        Ok(len)
    }

    /// Makes a request. `in_turn`: behind the data that waits, as an exit status has to be; else it overtakes it, as a
    /// signal has to.
    pub(crate) fn request(
        &mut self,
        id: ChannelId,
        request: &SessionRequest,
        want_reply: bool,
        in_turn: bool,
        transport: &mut Transport,
    ) -> Result<Result<(), ChannelEnded>, SshError> {
        let Some(channel) = self.channels.get_mut(&id.0) else { return Ok(Err(ChannelEnded)) };
        if channel.phase != Phase::Open || channel.send >= SendState::Closing {
            return Ok(Err(ChannelEnded));
        }
        if want_reply {
            if channel.unanswered.len() >= MAX_UNANSWERED_REQUESTS {
                return Err(SshError::Misuse("too many requests await an answer"));
            }
            channel.unanswered.push_back(static_name(request));
        }
        let peer_id = channel.peer_id;
        if in_turn {
            let mut payload = Vec::new();
            request.encode(peer_id, want_reply, &mut payload);
            channel.outgoing.push(Outgoing::Message(payload));
            self.schedule(id.0);
            return Ok(Ok(()));
        }
        transport.send(|out| request.encode(peer_id, want_reply, out))?;
        Ok(Ok(()))
    }

    /// Answers a request; nothing to a channel that has ended meanwhile.
    pub(crate) fn reply(
        &mut self,
        id: ChannelId,
        granted: bool,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        match self.channels.get(&id.0) {
            Some(channel) if channel.phase == Phase::Open && channel.send != SendState::Closed => {
                send_reply(channel.peer_id, granted, transport)
            }
            _ => Ok(()),
        }
    }

    /// No more data follows; harmless when it has been said, or the channel has ended.
    pub(crate) fn eof(&mut self, id: ChannelId) {
        if let Some(channel) = self.channels.get_mut(&id.0)
            && channel.phase == Phase::Open
            && channel.send == SendState::Open
        {
            channel.send = SendState::Finished;
            channel.outgoing.push(Outgoing::Eof);
            self.schedule(id.0);
        }
    }

    /// Closes a channel behind what waits to leave; harmless when it has been closed.
    pub(crate) fn close(&mut self, id: ChannelId) {
        if let Some(channel) = self.channels.get_mut(&id.0)
            && channel.phase == Phase::Open
            && channel.send < SendState::Closing
        {
            channel.send = SendState::Closing;
            channel.outgoing.push(Outgoing::Close);
            self.schedule(id.0);
        }
    }

    /// The caller is through with a channel: what waits either way is dropped, it is closed at once, and it is forgotten
    /// as soon as the peer has closed it too.
    pub(crate) fn release(&mut self, id: ChannelId, transport: &mut Transport) -> Result<(), SshError> {
        let Some(channel) = self.channels.get_mut(&id.0) else { return Ok(()) };
        channel.is_released = true;
        self.queued_bytes -= channel.outgoing.clear();
        self.received_bytes -= channel.received.iter_mut().map(super::Received::clear).sum::<usize>();
        channel.wants_room = false;
        match channel.phase {
            Phase::Ended => {
                self.forget(id.0);
                Ok(())
            }
            Phase::Open if channel.send != SendState::Closed => {
                channel.send = SendState::Closed;
                send_close(channel.peer_id, transport)
            }
            // One that is not open yet is closed when it is.
            _ => Ok(()),
        }
    }

    pub(crate) fn forget(&mut self, id: u32) {
        if let Some(channel) = self.channels.remove(&id) {
            self.windows -= u64::from(channel.recv_window.size());
            self.queued_bytes -= channel.outgoing.bytes();
            self.received_bytes -= channel.received_len();
        }
    }
}

/// The name of a request of ours, to label its answer.
pub(crate) fn static_name(request: &SessionRequest) -> &'static str {
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
