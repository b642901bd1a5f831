//! Secrets as types: wiped when dropped, never printed, never compared in variable time.

use std::ops::Deref;

use subtle::ConstantTimeEq;
use zeroize::{Zeroize, ZeroizeOnDrop};

use crate::wire::Writer;

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

/// Bytes that come bit by bit and may be secret. Where a plain vector would move and leave a copy behind, this one wipes it.
#[derive(Default, Zeroize, ZeroizeOnDrop)]
pub struct SecretBuffer(Vec<u8>);

impl SecretBuffer {
    /// An empty one with room for so many bytes.
    pub fn with_capacity(len: usize) -> Self {
        Self(Vec::with_capacity(len))
    }

    /// Adds bytes.
    pub fn extend_from_slice(&mut self, bytes: &[u8]) {
        let needed = self.0.len() + bytes.len();
        if needed > self.0.capacity() {
            let mut roomier = Vec::with_capacity(needed.max(2 * self.0.capacity()));
            roomier.extend_from_slice(&self.0);
            std::mem::replace(&mut self.0, roomier).zeroize();
        }
        self.0.extend_from_slice(bytes);
    }

    /// Takes away the first bytes, and wipes where the last ones were before they moved up.
    pub fn drop_front(&mut self, len: usize) {
        let (len, all) = (len.min(self.0.len()), self.0.len());
        self.0.copy_within(len.., 0);
        self.0[all - len..].zeroize();
        self.0.truncate(all - len);
    }
}

impl Deref for SecretBuffer {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl Writer for SecretBuffer {
    fn put(&mut self, bytes: &[u8]) {
        self.extend_from_slice(bytes);
    }
}

impl std::fmt::Debug for SecretBuffer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretBuffer(…)")
    }
}

/// Puts something harmless in the place of a value that holds secrets and has no way to wipe them itself. As good as it gets without looking at
/// memory: the value may have been moved before and have left copies.
pub fn overwrite<T>(secret: &mut T, harmless: T) {
    *secret = harmless;
    // Else the compiler sees that nobody reads it again, and leaves it out.
    std::hint::black_box(secret);
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// It holds what a vector would hold.
        #[test]
        fn a_secret_buffer_is_a_queue_of_bytes(steps in prop::collection::vec((prop::collection::vec(any::<u8>(), 0..40), 0..50usize), 0..30)) {
            let (mut buffer, mut model) = (SecretBuffer::default(), Vec::new());
            for (bytes, dropped) in steps {
                buffer.extend_from_slice(&bytes);
                model.extend_from_slice(&bytes);
                buffer.drop_front(dropped);
                model.drain(..dropped.min(model.len()));
                prop_assert_eq!(&*buffer, &model[..]);
            }
            prop_assert_eq!(format!("{buffer:?}"), "SecretBuffer(…)");
        }
    }
}
