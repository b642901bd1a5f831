//! Keys from the agreed secret (RFC 4253 §7.2).

use aws_lc_rs::digest;
use lantern_keys::secret::overwrite;
use zeroize::Zeroizing;

use super::{SharedSecret, hash_of};
use crate::algorithm::KexAlgorithm;
use crate::cipher::DirectionKeys;
use crate::negotiate::Direction;

/// The letters that tell the keys of one direction apart.
#[derive(Clone, Copy)]
pub(crate) struct Letters {
    iv: u8,
    key: u8,
    mac: u8,
}

pub(crate) const CLIENT_TO_SERVER: Letters = Letters { iv: b'A', key: b'C', mac: b'E' };
pub(crate) const SERVER_TO_CLIENT: Letters = Letters { iv: b'B', key: b'D', mac: b'F' };

/// What one key exchange yields: enough to derive every key of it.
pub(crate) struct KeySchedule {
    pub(crate) algorithm: KexAlgorithm,
    pub(crate) secret: SharedSecret,
    pub(crate) exchange_hash: Vec<u8>,
}

impl KeySchedule {
    /// HASH(K ‖ H ‖ letter ‖ session_id), extended by HASH(K ‖ H ‖ what there is) as far as needed.
    fn derive(&self, letter: u8, session_id: &[u8], len: usize) -> Zeroizing<Vec<u8>> {
        let hash = |tail: &[&[u8]]| {
            let mut context = digest::Context::new(hash_of(self.algorithm));
            context.update(self.secret.encoded());
            context.update(&self.exchange_hash);
            tail.iter().for_each(|part| context.update(part));
            context.finish()
        };
        let mut out = Zeroizing::new(Vec::with_capacity(len + 64));
        let mut next = hash(&[&[letter], session_id]);
        out.extend_from_slice(next.as_ref());
        while out.len() < len {
            next = hash(&[&out]);
            out.extend_from_slice(next.as_ref());
        }
        // The library does not wipe digests, and this one is a key.
        overwrite(&mut next, digest::digest(hash_of(self.algorithm), b""));
        out.truncate(len);
        out
    }

    /// The keys of one direction.
    pub(crate) fn keys(&self, direction: Direction, letters: Letters, session_id: &[u8]) -> DirectionKeys {
        let derive = |letter, len| self.derive(letter, session_id, len);
        DirectionKeys {
            iv: derive(letters.iv, direction.cipher.iv_len()),
            key: derive(letters.key, direction.cipher.key_len()),
            mac: derive(letters.mac, direction.mac.map_or(0, |mac| mac.len())),
        }
    }
}
