//! Secrets as types: wiped when dropped, never printed, never compared in variable time.

use subtle::ConstantTimeEq;
use zeroize::{Zeroize, ZeroizeOnDrop};

/// Secret bytes. Wiped on drop; has no `Display` and no `Serialize`, and its `Debug` says nothing.
#[derive(Clone, Default, Zeroize, ZeroizeOnDrop)]
pub struct SecretBytes(Vec<u8>);

impl SecretBytes {
    /// Takes over `bytes`; the caller must hold no other copy.
    pub fn new(bytes: Vec<u8>) -> Self {
        Self(bytes)
    }

    /// The only door to the secret, named so that every use can be found.
    pub fn expose_secret(&self) -> &[u8] {
        &self.0
    }
}

impl std::fmt::Debug for SecretBytes {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretBytes(…)")
    }
}

impl PartialEq for SecretBytes {
    fn eq(&self, other: &Self) -> bool {
        self.0.ct_eq(&other.0).into()
    }
}

impl Eq for SecretBytes {}

/// A secret text: a password, a passphrase, a code. The same promises as [`SecretBytes`].
#[derive(Clone, Default, Zeroize, ZeroizeOnDrop)]
pub struct SecretString(String);

impl SecretString {
    /// Takes over `text`; the caller must hold no other copy.
    pub fn new(text: String) -> Self {
        Self(text)
    }

    /// The only door to the secret, named so that every use can be found.
    pub fn expose_secret(&self) -> &str {
        &self.0
    }

    /// Whether nothing was typed.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl std::fmt::Debug for SecretString {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretString(…)")
    }
}

impl PartialEq for SecretString {
    fn eq(&self, other: &Self) -> bool {
        self.0.as_bytes().ct_eq(other.0.as_bytes()).into()
    }
}

impl Eq for SecretString {}
