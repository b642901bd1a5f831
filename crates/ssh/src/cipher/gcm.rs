//! AES-GCM as RFC 5647 §7 puts it on the wire: the length in clear and authenticated, a counter in the nonce.

use aws_lc_rs::aead::{AES_128_GCM, AES_256_GCM, Aad, Algorithm, LessSafeKey, Nonce, UnboundKey};
use lantern_keys::secret::overwrite;

use super::{DirectionKeys, LENGTH_LEN};
use crate::algorithm::CipherAlgorithm;

const TAG_LEN: usize = 16;

pub(crate) struct Gcm {
    key: LessSafeKey,
    /// Four fixed bytes and the invocation counter (RFC 5647 §7.1).
    nonce: [u8; 12],
}

impl Gcm {
    pub(super) fn new(algorithm: CipherAlgorithm, keys: &DirectionKeys) -> Option<Self> {
        let algorithm = if algorithm == CipherAlgorithm::Aes256Gcm { &AES_256_GCM } else { &AES_128_GCM };
        Some(Self { key: Self::key(algorithm, &keys.key)?, nonce: keys.iv.as_slice().try_into().ok()? })
    }

    fn key(algorithm: &'static Algorithm, key: &[u8]) -> Option<LessSafeKey> {
        Some(LessSafeKey::new(UnboundKey::new(algorithm, key).ok()?))
    }

    fn next_nonce(&mut self) -> Nonce {
        let nonce = self.nonce;
        let [.., a, b, c, d, e, f, g, h] = &mut self.nonce;
        let counter = u64::from_be_bytes([*a, *b, *c, *d, *e, *f, *g, *h]).wrapping_add(1);
        [*a, *b, *c, *d, *e, *f, *g, *h] = counter.to_be_bytes();
        Nonce::assume_unique_for_key(nonce)
    }

    pub(super) fn open(&mut self, packet: &mut [u8]) -> bool {
        let Some((length, sealed)) = packet.split_first_chunk_mut::<LENGTH_LEN>() else { return false };
        let nonce = self.next_nonce();
        self.key.open_in_place(nonce, Aad::from(&*length), sealed).is_ok()
    }

    pub(super) fn seal(&mut self, packet: &mut [u8]) -> bool {
        let Some((length, rest)) = packet.split_first_chunk_mut::<LENGTH_LEN>() else { return false };
        let Some((body, tag_out)) = rest.split_last_chunk_mut::<TAG_LEN>() else { return false };
        let nonce = self.next_nonce();
        match self.key.seal_in_place_separate_tag(nonce, Aad::from(&*length), body) {
            Ok(tag) => {
                tag_out.copy_from_slice(tag.as_ref());
                true
            }
            Err(_) => false,
        }
    }
}

/// The library frees the expanded key without wiping it.
impl Drop for Gcm {
    fn drop(&mut self) {
        if let Some(zeros) = Self::key(&AES_256_GCM, &[0; 32]) {
            overwrite(&mut self.key, zeros);
        }
    }
}
