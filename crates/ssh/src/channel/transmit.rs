//! Packets made of what channels want to send: as late as possible, in turns, and never more than the line takes soon.

use lantern_keys::wire::Writer;

use super::window::packet_limit;
use super::{ChannelEvent, ChannelId, Outgoing, Phase, SendState, Stream};
use crate::SshError;
use crate::connection::{Connection, SSH_EXTENDED_DATA_STDERR, send_close};
use crate::limits::{MAX_CHANNEL_PACKET, MAX_PACKET_LEN, SEND_ROOM_LOW_WATER};
use crate::message::number;
use crate::transport::Transport;

/// Bytes of number, recipient, type and length in front of channel data, at most.
const DATA_HEADER_LEN: usize = 1 + 4 + 4 + 4;
const _: () = assert!(MAX_CHANNEL_PACKET as usize + DATA_HEADER_LEN + 64 < MAX_PACKET_LEN);

impl Connection {
    /// Makes packets until `target` bytes are pending or nothing more can leave.
    pub(crate) fn fill(&mut self, transport: &mut Transport, target: usize) -> Result<(), SshError> {
        while !self.schedule.is_empty() && transport.can_send() && transport.pending().len() < target {
            let room = target - transport.pending().len();
            let Some(id) = self.schedule.pop() else { break };
            self.one_turn(id, room, transport)?;
        }
        Ok(())
    }

    /// One packet of data of a channel, and whatever else stands before more data.
    fn one_turn(&mut self, id: u32, room: usize, transport: &mut Transport) -> Result<(), SshError> {
        let Some(channel) = self.channels.get_mut(&id) else { return Ok(()) };
        channel.is_scheduled = false;
        let mut data_left = true;
        while channel.phase == Phase::Open {
            match channel.outgoing.front() {
                None => break,
                Some(Outgoing::Data(stream, _)) => {
                    let packet = packet_limit(channel.send_window.largest(), channel.peer_max_packet);
                    let window = channel.send_window.left().min(packet);
                    // A packet that is far larger than the room would hold up what comes next; a very small one is waste.
                    let limit = (window as usize).min(room.max(MIN_DATA_PACKET));
                    if !data_left || limit == 0 {
                        break;
                    }
                    let stream = *stream;
                    let len = channel.outgoing.run_len(limit);
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
                        out.put_uint32(len as u32);
                        channel.outgoing.take(len, |piece| out.put(piece));
                    })?;
                    channel.send_window.take(len as u32);
                    self.queued_bytes -= len;
                    data_left = false;
                }
                Some(Outgoing::Message(_) | Outgoing::Eof | Outgoing::Close) => {
                    match channel.outgoing.pop() {
                        Some(Outgoing::Message(payload)) => transport.send(|out| out.put(&payload))?,
                        Some(Outgoing::Eof) => {
                            let peer_id = channel.peer_id;
                            transport.send(|out| {
                                out.put_byte(number::CHANNEL_EOF);
                                out.put_uint32(peer_id);
                            })?;
                        }
                        _ => {
                            channel.send = SendState::Closed;
                            send_close(channel.peer_id, transport)?;
                        }
                    }
                }
            }
        }
        if channel.wants_room && channel.outgoing.bytes() <= SEND_ROOM_LOW_WATER {
            channel.wants_room = false;
            self.events.push_back((ChannelId(id), ChannelEvent::Writable));
        }
        if channel.can_transmit() {
            channel.is_scheduled = true;
            let waiting = channel.outgoing.bytes();
            self.schedule.push(id, waiting);
        }
        Ok(())
    }

    /// Puts a channel into the schedule when something can leave and it is not there yet.
    pub(crate) fn schedule(&mut self, id: u32) {
        if let Some(channel) = self.channels.get_mut(&id)
            && channel.can_transmit()
            && !std::mem::replace(&mut channel.is_scheduled, true)
        {
            let waiting = channel.outgoing.bytes();
            self.schedule.push(id, waiting);
        }
    }
}

/// Smallest data packet that is made for want of room, in bytes.
const MIN_DATA_PACKET: usize = 4 * 1024;
