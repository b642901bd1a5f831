//! `chacha20-poly1305@openssh.com`: two ChaCha20 keys, one for the length, one for the rest, Poly1305 over both.

use aws_lc_rs::aead::chacha20_poly1305_openssh::{OpeningKey, SealingKey};

use super::{DirectionKeys, LENGTH_LEN};

const TAG_LEN: usize = 16;

pub(crate) struct Seal(SealingKey);
pub(crate) struct Open(OpeningKey);

impl Seal {
    pub(super) fn new(keys: &DirectionKeys) -> Option<Self> {
        Some(Self(SealingKey::new(keys.key.as_slice().try_into().ok()?)))
    }

    pub(super) fn seal(&mut self, sequence: u32, packet: &mut [u8]) -> bool {
        let Some((body, tag)) = packet.split_last_chunk_mut::<TAG_LEN>() else { return false };
        self.0.seal_in_place(sequence, body, tag);
        true
    }
}

impl Open {
    pub(super) fn new(keys: &DirectionKeys) -> Option<Self> {
        Some(Self(OpeningKey::new(keys.key.as_slice().try_into().ok()?)))
    }

    pub(super) fn open_length(&self, sequence: u32, head: &[u8]) -> u32 {
        head.first_chunk::<LENGTH_LEN>()
            .map_or(0, |sealed| u32::from_be_bytes(self.0.decrypt_packet_length(sequence, *sealed)))
    }

    pub(super) fn open(&mut self, sequence: u32, packet: &mut [u8]) -> bool {
        let Some((body, tag)) = packet.split_last_chunk_mut::<TAG_LEN>() else { return false };
        self.0.open_in_place(sequence, body, tag).is_ok()
    }
}
