//! Fingerprints: SHA-256 over the public key blob, in unpadded base64 behind `SHA256:`.

use std::fmt;
use std::str::FromStr;

use base64ct::{Base64Unpadded, Encoding};
use md5::{Digest, Md5};

use crate::KeyError;

/// The SHA-256 fingerprint of a public key.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Fingerprint([u8; 32]);

impl Fingerprint {
    /// The fingerprint of a public key blob.
    pub fn of_blob(blob: &[u8]) -> Self {
        let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, blob);
        let mut bytes = [0; 32];
        bytes.copy_from_slice(digest.as_ref());
        Self(bytes)
    }

    /// The 32 bytes of the hash.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }
}

/// The old fingerprint of a public key blob: MD5 in hexadecimal behind `MD5:`, as consoles and logs of old still show
/// it (RFC 4716 §4). For recognising a key only: keys with the same MD5 can be made.
pub fn md5_of_blob(blob: &[u8]) -> String {
    let digest = Md5::digest(blob);
    let pairs: Vec<String> = digest.iter().map(|byte| format!("{byte:02x}")).collect();
    format!("MD5:{}", pairs.join(":"))
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SHA256:{}", Base64Unpadded::encode_string(&self.0))
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Fingerprint {
    type Err = KeyError;

    /// Reads what people paste: with or without `SHA256:`, with base64 padding, or in hexadecimal with or without colons; within white space.
    fn from_str(text: &str) -> Result<Self, KeyError> {
        let text = text.trim();
        let text = text.strip_prefix("SHA256:").unwrap_or(text).trim_end_matches('=');
        let mut bytes = [0; 32];
        let digits: Vec<u8> = text.bytes().filter(|byte| !b": ".contains(byte)).collect();
        if digits.len() == 64 && digits.iter().all(u8::is_ascii_hexdigit) {
            let nibble = |digit: u8| {
                (digit as char).to_digit(16).and_then(|digit| u8::try_from(digit).ok()).unwrap_or(0)
            };
            for (byte, [high, low]) in bytes.iter_mut().zip(digits.as_chunks::<2>().0) {
                *byte = nibble(*high) << 4 | nibble(*low);
            }
            return Ok(Self(bytes));
        }
        match Base64Unpadded::decode(text, &mut bytes) {
            Ok(decoded) if decoded.len() == 32 => Ok(Self(bytes)),
            _ => Err(KeyError::NotAFingerprint),
        }
    }
}
