//! AES in counter mode (RFC 4344) with HMAC (RFC 6668): over the plaintext, or over the ciphertext (`-etm`).

use aes::cipher::{KeyIvInit, StreamCipher};
use aes::{Aes128, Aes192, Aes256};
use aws_lc_rs::hmac;
use ctr::Ctr128BE;
use subtle::ConstantTimeEq;

use super::{DirectionKeys, LENGTH_LEN};
use crate::algorithm::{CipherAlgorithm, MacAlgorithm};

enum AesCtr {
    Aes128(Ctr128BE<Aes128>),
    Aes192(Ctr128BE<Aes192>),
    Aes256(Ctr128BE<Aes256>),
}

pub(crate) struct CtrMac {
    cipher: AesCtr,
    mac_key: hmac::Key,
    mac: MacAlgorithm,
}

impl CtrMac {
    pub(super) fn new(cipher: CipherAlgorithm, mac: MacAlgorithm, keys: &DirectionKeys) -> Option<Self> {
        let cipher = match cipher {
            CipherAlgorithm::Aes128Ctr => {
                AesCtr::Aes128(KeyIvInit::new_from_slices(&keys.key, &keys.iv).ok()?)
            }
            CipherAlgorithm::Aes192Ctr => {
                AesCtr::Aes192(KeyIvInit::new_from_slices(&keys.key, &keys.iv).ok()?)
            }
            CipherAlgorithm::Aes256Ctr => {
                AesCtr::Aes256(KeyIvInit::new_from_slices(&keys.key, &keys.iv).ok()?)
            }
            _ => return None,
        };
        let hash = if mac.len() == 32 { hmac::HMAC_SHA256 } else { hmac::HMAC_SHA512 };
        Some(Self { cipher, mac_key: hmac::Key::new(hash, &keys.mac), mac })
    }

    pub(super) fn tag_len(&self) -> usize {
        self.mac.len()
    }

    pub(super) fn is_etm(&self) -> bool {
        self.mac.is_etm()
    }

    /// Encrypts or decrypts in place.
    pub(super) fn apply(&mut self, bytes: &mut [u8]) {
        match &mut self.cipher {
            AesCtr::Aes128(cipher) => cipher.apply_keystream(bytes),
            AesCtr::Aes192(cipher) => cipher.apply_keystream(bytes),
            AesCtr::Aes256(cipher) => cipher.apply_keystream(bytes),
        }
    }

    fn tag(&self, sequence: u32, packet: &[u8]) -> hmac::Tag {
        let mut context = hmac::Context::with_key(&self.mac_key);
        context.update(&sequence.to_be_bytes());
        context.update(packet);
        context.sign()
    }

    pub(super) fn open(&mut self, sequence: u32, packet: &mut [u8]) -> bool {
        let Some(body_len) = packet.len().checked_sub(self.tag_len()) else { return false };
        let (body, tag) = packet.split_at_mut(body_len);
        if self.is_etm() {
            let verified: bool = self.tag(sequence, body).as_ref().ct_eq(tag).into();
            if verified {
                self.apply(&mut body[LENGTH_LEN..]);
            }
            verified
        } else {
            // The first block was decrypted to learn the length.
            let head = 16.min(body.len());
            self.apply(&mut body[head..]);
            self.tag(sequence, body).as_ref().ct_eq(tag).into()
        }
    }

    pub(super) fn seal(&mut self, sequence: u32, packet: &mut [u8]) -> bool {
        let Some(body_len) = packet.len().checked_sub(self.tag_len()) else { return false };
        let (body, tag_out) = packet.split_at_mut(body_len);
        if self.is_etm() {
            self.apply(&mut body[LENGTH_LEN..]);
            tag_out.copy_from_slice(self.tag(sequence, body).as_ref());
        } else {
            let tag = self.tag(sequence, body);
            self.apply(body);
            tag_out.copy_from_slice(tag.as_ref());
        }
        true
    }
}
