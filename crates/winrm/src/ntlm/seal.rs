//! Messages signed and sealed with the keys of a login (MS-NLMP 3.4).

use rc4::{Rc4, StreamCipher};
use subtle::ConstantTimeEq;

use super::NtlmError;
use super::keys::{Key, derived, hmac_md5, rc4};

/// The length of a signature, in bytes.
pub const SIGNATURE_LEN: usize = 16;

struct Direction {
    sign: Key,
    cipher: Rc4,
    sequence: u32,
}

impl Direction {
    fn new(exported: &Key, from: &str) -> Self {
        let key = |kind| derived(exported, &format!("session key to {from} {kind} key magic constant"));
        Self { sign: key("signing"), cipher: rc4(&key("sealing")), sequence: 0 }
    }

    /// The signature of a message, whose place in the key stream is behind that of the message.
    fn signature(&mut self, message: &[u8]) -> [u8; SIGNATURE_LEN] {
        let sequence = self.sequence.to_le_bytes();
        let [a, b, c, d, e, f, g, h, ..] = hmac_md5(&*self.sign, &[&sequence, message]);
        let mut checksum = [a, b, c, d, e, f, g, h];
        self.cipher.apply_keystream(&mut checksum);
        self.sequence = self.sequence.wrapping_add(1);
        let mut signature = [0; SIGNATURE_LEN];
        signature[..4].copy_from_slice(&1u32.to_le_bytes());
        signature[4..12].copy_from_slice(&checksum);
        signature[12..].copy_from_slice(&sequence);
        signature
    }
}

/// Seals what is sent and opens what comes, in order. Any message that does not open ends it.
pub struct Seals {
    send: Direction,
    receive: Direction,
}

impl std::fmt::Debug for Seals {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Seals(…)")
    }
}

const CLIENT: &str = "client-to-server";
const SERVER: &str = "server-to-client";

impl Seals {
    pub(super) fn of_client(exported: &Key) -> Self {
        Self { send: Direction::new(exported, CLIENT), receive: Direction::new(exported, SERVER) }
    }

    pub(super) fn of_server(exported: &Key) -> Self {
        Self { send: Direction::new(exported, SERVER), receive: Direction::new(exported, CLIENT) }
    }

    /// Seals a message in its place; its signature.
    pub fn seal(&mut self, message: &mut [u8]) -> [u8; SIGNATURE_LEN] {
        let plain = message.to_vec();
        self.send.cipher.apply_keystream(message);
        let signature = self.send.signature(&plain);
        drop(zeroize::Zeroizing::new(plain));
        signature
    }

    /// Opens a message in its place.
    ///
    /// # Errors
    /// It was changed, repeated, or another was left out before it.
    pub fn open(&mut self, message: &mut [u8], signature: &[u8]) -> Result<(), NtlmError> {
        self.receive.cipher.apply_keystream(message);
        match self.receive.signature(message).ct_eq(signature).into() {
            true => Ok(()),
            false => Err(NtlmError::Altered),
        }
    }
}
