//! One key of the ring as a listing shows it.

use base64ct::{Base64, Encoding};
use lantern_keys::PublicKey;

use crate::KeyNote;

/// One key of the ring as a listing shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeySummary {
    /// Its name.
    pub name: String,
    /// What it is: "Ed25519".
    pub algorithm: String,
    /// Its fingerprint, as text.
    pub fingerprint: String,
    /// The blob of the public half in base64, as lines of public keys have it.
    pub blob: String,
    /// The comment of the public file.
    pub comment: String,
    /// The container of the private file.
    pub container: String,
    /// Cipher and derivation in words; nothing without a passphrase.
    pub protection: Option<String>,
    /// Whether its passphrase protects it less than it should.
    pub is_weakly_protected: bool,
    /// The permission bits of the private file.
    pub mode: u32,
    /// What the ring notes of it.
    pub note: KeyNote,
}

impl KeySummary {
    /// The public half.
    pub fn public(&self) -> Option<PublicKey> {
        PublicKey::decode(&Base64::decode_vec(&self.blob).ok()?).ok()
    }

    /// Whether it is this key.
    pub fn is(&self, key: &PublicKey) -> bool {
        self.blob == base64_of(key)
    }

    /// Whether others than the owner could read the private file.
    pub fn is_exposed(&self) -> bool {
        self.mode & 0o077 != 0
    }

    /// Whether a passphrase protects it.
    pub fn is_protected(&self) -> bool {
        self.protection.is_some()
    }
}

/// The blob of a key as [`KeySummary::blob`] has it.
pub(crate) fn base64_of(key: &PublicKey) -> String {
    Base64::encode_string(&key.encode())
}
