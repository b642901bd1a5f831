//! The numbers that RSA keys consist of, and the sizes that we take.

use crypto_bigint::BoxedUint;
use zeroize::Zeroizing;

use crate::KeyError;
use crate::algorithm::{MAX_RSA_BITS, MIN_RSA_BITS};
use crate::wire::trim_leading_zeros;

/// The numbers of an RSA private key, big-endian: what `openssh-key-v1` writes down.
#[derive(Clone)]
pub(crate) struct RsaComponents {
    pub(crate) n: Vec<u8>,
    pub(crate) e: Vec<u8>,
    pub(crate) d: Zeroizing<Vec<u8>>,
    pub(crate) iqmp: Zeroizing<Vec<u8>>,
    pub(crate) p: Zeroizing<Vec<u8>>,
    pub(crate) q: Zeroizing<Vec<u8>>,
}

/// The size of an RSA modulus in bits, within our limits.
///
/// # Errors
/// [`KeyError::Unsupported`] outside of them.
pub(crate) fn checked_modulus_bits(n: &[u8]) -> Result<usize, KeyError> {
    let n = trim_leading_zeros(n);
    let bits = n.first().map_or(0, |first| n.len() * 8 - first.leading_zeros() as usize);
    let why = if bits < MIN_RSA_BITS {
        "under 2048 bits, too weak since NIST SP 800-131A"
    } else if bits > MAX_RSA_BITS {
        "over 16384 bits"
    } else {
        return Ok(bits);
    };
    Err(KeyError::Unsupported { what: "RSA key of size", met: bits.to_string(), why })
}

/// A number at its own width.
pub(crate) fn uint(bytes: &[u8]) -> Result<BoxedUint, KeyError> {
    let bytes = trim_leading_zeros(bytes);
    if bytes.len() > MAX_RSA_BITS / 8 {
        return Err(KeyError::Malformed("an RSA number is longer than any modulus of ours"));
    }
    let precision = u32::try_from(bytes.len().max(1) * 8).unwrap_or(u32::MAX);
    BoxedUint::from_be_slice(bytes, precision)
        .map_err(|_| KeyError::Malformed("an RSA number is out of range"))
}
