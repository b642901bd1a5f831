//! The binary packet protocol (RFC 4253 §6): packets built, sealed and opened in the buffers that the driver
//! sends from and receives into. Bulk data is not copied between them.

use bytes::{Buf, Bytes, BytesMut};
use lantern_keys::wire::Writer;
use lantern_keys::{RandomSource, SecretBuffer, SecretBytes};
use zeroize::Zeroize;

use crate::SshError;
use crate::cipher::{LENGTH_LEN, PacketCipher};
use crate::limits::MAX_PACKET_LEN;

/// Shortest padding (RFC 4253 §6), in bytes.
const MIN_PADDING: usize = 4;

/// A payload being written: straight into the send buffer, or aside until a key exchange is over.
pub(crate) enum PayloadWriter<'a> {
    Packet {
        out: &'a mut BytesMut,
        /// Where the packet starts. Before it, all is sealed.
        start: usize,
    },
    Deferred(&'a mut SecretBuffer),
}

/// Makes room behind a packet in the making. Growing may move the buffer, and the packet may carry a password: its bytes leave their place first.
fn make_room(out: &mut BytesMut, start: usize, more: usize) {
    if out.capacity() - out.len() >= more {
        return;
    }
    let open = SecretBytes::new(out[start..].to_vec());
    out[start..].zeroize();
    out.truncate(start);
    out.reserve(open.expose_secret().len() + more);
    out.extend_from_slice(open.expose_secret());
}

impl Writer for PayloadWriter<'_> {
    fn put(&mut self, bytes: &[u8]) {
        match self {
            Self::Packet { out, start } => {
                make_room(out, *start, bytes.len());
                out.extend_from_slice(bytes);
            }
            Self::Deferred(out) => out.extend_from_slice(bytes),
        }
    }
}

/// One direction: its cipher, the number of its next packet, and what has gone through it.
pub(crate) struct Direction {
    cipher: PacketCipher,
    pub(crate) sequence: u32,
    /// Since the last new keys.
    pub(crate) bytes: u64,
    pub(crate) packets: u64,
    pub(crate) bytes_total: u64,
}

impl Direction {
    fn new() -> Self {
        Self { cipher: PacketCipher::Clear, sequence: 0, bytes: 0, packets: 0, bytes_total: 0 }
    }

    /// A packet of so many bytes has gone through.
    fn count(&mut self, bytes: usize) {
        self.sequence = self.sequence.wrapping_add(1);
        self.packets += 1;
        self.bytes += bytes as u64;
        self.bytes_total += bytes as u64;
    }

    /// From the next packet on, this cipher. Strict key exchange starts the numbers anew.
    pub(crate) fn new_keys(&mut self, cipher: PacketCipher, reset_sequence: bool) {
        self.cipher = cipher;
        self.bytes = 0;
        self.packets = 0;
        if reset_sequence {
            self.sequence = 0;
        }
    }
}

/// The sending half: payloads in, wire bytes out.
pub(crate) struct PacketSender {
    out: BytesMut,
    pub(crate) direction: Direction,
}

impl PacketSender {
    pub(crate) fn new() -> Self {
        Self { out: BytesMut::new(), direction: Direction::new() }
    }

    /// Appends bytes outside of any packet: the identification line.
    pub(crate) fn raw(&mut self, bytes: &[u8]) {
        self.out.extend_from_slice(bytes);
    }

    /// Builds one packet in place from what `write` puts down.
    pub(crate) fn packet(
        &mut self,
        random: &mut dyn RandomSource,
        write: impl FnOnce(&mut PayloadWriter<'_>),
    ) -> Result<(), SshError> {
        let start = self.out.len();
        self.out.extend_from_slice(&[0; LENGTH_LEN + 1]);
        write(&mut PayloadWriter::Packet { out: &mut self.out, start });
        let payload_end = self.out.len();
        let tag_len = self.direction.cipher.tag_len();
        let padded_from = if self.direction.cipher.pads_length() { start } else { start + LENGTH_LEN };
        let block = self.direction.cipher.block_len();
        let mut padding = block - (payload_end - padded_from) % block;
        if padding < MIN_PADDING {
            padding += block;
        }
        make_room(&mut self.out, start, padding + tag_len);
        self.out.resize(payload_end + padding + tag_len, 0);
        let packet = &mut self.out[start..];
        let length = packet.len() - LENGTH_LEN - tag_len;
        if length > MAX_PACKET_LEN {
            self.out[start..].zeroize();
            self.out.truncate(start);
            return Err(SshError::Misuse("a message of ours is larger than a packet"));
        }
        packet[..LENGTH_LEN].copy_from_slice(&(length as u32).to_be_bytes());
        packet[LENGTH_LEN] = padding as u8;
        random.fill(&mut packet[payload_end - start..payload_end - start + padding]);
        self.direction.cipher.seal(self.direction.sequence, packet)?;
        self.direction.count(self.out.len() - start);
        Ok(())
    }

    /// What is to be sent.
    pub(crate) fn pending(&self) -> &[u8] {
        &self.out
    }

    /// What the buffer takes up, in bytes.
    pub(crate) fn capacity(&self) -> usize {
        self.out.capacity()
    }

    /// Drops the first `len` bytes of [`Self::pending`]: they have been sent.
    pub(crate) fn sent(&mut self, len: usize) {
        self.out.advance(len.min(self.out.len()));
        // An emptied buffer starts over at its beginning instead of growing.
        if self.out.is_empty() {
            self.out.clear();
        }
    }
}

/// The receiving half: wire bytes in, payloads out.
pub(crate) struct PacketReceiver {
    /// What has come in and was not taken out yet.
    pub(crate) buffer: BytesMut,
    pub(crate) direction: Direction,
    /// Length field of the packet at the front, once it has been read.
    length: Option<usize>,
}

impl PacketReceiver {
    pub(crate) fn new() -> Self {
        Self { buffer: BytesMut::new(), direction: Direction::new(), length: None }
    }

    /// The payload of the next packet, opened in place, once it is all there.
    pub(crate) fn poll(&mut self) -> Result<Option<Bytes>, SshError> {
        let tag_len = self.direction.cipher.tag_len();
        let length = match self.length {
            Some(length) => length,
            None => {
                let head_len = self.direction.cipher.head_len();
                let Some(head) = self.buffer.get_mut(..head_len) else { return Ok(None) };
                let length = self.direction.cipher.open_length(self.direction.sequence, head) as usize;
                self.check_length(length)?;
                self.length = Some(length);
                length
            }
        };
        let total = LENGTH_LEN + length + tag_len;
        let Some(packet) = self.buffer.get_mut(..total) else { return Ok(None) };
        self.direction.cipher.open(self.direction.sequence, packet)?;
        let padding = usize::from(packet[LENGTH_LEN]);
        if padding < MIN_PADDING || padding + 1 > length {
            return Err(SshError::PeerBroke {
                rule: "padding must be 4 bytes or more and fit (RFC 4253 §6)",
            });
        }
        self.length = None;
        self.direction.count(total);
        let mut packet = self.buffer.split_to(total).freeze();
        packet.truncate(LENGTH_LEN + length - padding);
        packet.advance(LENGTH_LEN + 1);
        Ok(Some(packet))
    }

    fn check_length(&self, length: usize) -> Result<(), SshError> {
        if length > MAX_PACKET_LEN {
            // Under encryption a damaged length is indistinguishable from a huge one.
            return Err(match self.direction.cipher {
                PacketCipher::Clear => {
                    SshError::LimitExceeded { what: "bytes in a packet", limit: MAX_PACKET_LEN as u64 }
                }
                _ => SshError::MacMismatch,
            });
        }
        let padded = if self.direction.cipher.pads_length() { length + LENGTH_LEN } else { length };
        if length < 1 + MIN_PADDING || !padded.is_multiple_of(self.direction.cipher.block_len()) {
            return Err(match self.direction.cipher {
                PacketCipher::Clear => {
                    SshError::PeerBroke { rule: "a packet must be a whole number of blocks (RFC 4253 §6)" }
                }
                _ => SshError::MacMismatch,
            });
        }
        Ok(())
    }
}
