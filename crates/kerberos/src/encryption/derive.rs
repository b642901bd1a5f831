//! Keys from keys, and keys from passwords.

use hmac::{EagerHash, Hmac, KeyInit, Mac};
use sha1::Sha1;
use sha2::{Sha256, Sha384};
use zeroize::Zeroizing;

use super::fold::fold;
use super::mode::{BLOCK, encrypt};
use crate::{EncryptionType, KerberosError};

/// Rounds of work from a password to a key that are done for anybody: a centre asks for 4,096 or 32,768 (RFC 3962 §4, RFC 8009 §4), and one that is hostile could
/// ask for hours.
const MAX_ROUNDS: u32 = 4_000_000;

type Bytes = Zeroizing<Vec<u8>>;

/// What a derived key is for (RFC 3961 §5.3).
#[derive(Debug, Clone, Copy)]
pub(super) enum Purpose {
    Encryption,
    Integrity,
    Checksum,
}

/// The key of a base key for one usage and purpose.
pub(super) fn derived(kind: EncryptionType, base: &[u8], usage: u32, purpose: Purpose) -> Bytes {
    let (last, len) = match purpose {
        Purpose::Encryption => (0xaa, kind.key_len()),
        Purpose::Integrity => (0x55, kind.mac_len()),
        Purpose::Checksum => (0x99, kind.mac_len()),
    };
    let [a, b, c, d] = usage.to_be_bytes();
    let constant = [a, b, c, d, last];
    match kind {
        EncryptionType::Aes128Sha1 | EncryptionType::Aes256Sha1 => from_constant(kind, base, &constant),
        EncryptionType::Aes128Sha256 | EncryptionType::Aes256Sha384 => from_label(kind, base, &constant, len),
    }
}

/// `DK` of RFC 3961 §5.1: the folded constant, encrypted over and over.
fn from_constant(kind: EncryptionType, base: &[u8], constant: &[u8]) -> Bytes {
    let mut block: [u8; BLOCK] = match <[u8; BLOCK]>::try_from(constant) {
        Ok(whole) => whole,
        Err(_) => fold(constant),
    };
    let mut key = Zeroizing::new(Vec::with_capacity(32));
    while key.len() < kind.key_len() {
        encrypt(base, &mut block);
        key.extend_from_slice(&block);
    }
    key
}

/// `KDF-HMAC-SHA2` of RFC 8009 §3.
fn from_label(kind: EncryptionType, base: &[u8], label: &[u8], len: usize) -> Bytes {
    let bits = u32::try_from(len * 8).unwrap_or(u32::MAX).to_be_bytes();
    let mut key = mac(kind, base, &[&1u32.to_be_bytes(), label, &[0], &bits]);
    key.truncate(len);
    key
}

/// The whole HMAC of an encryption type's hash.
pub(super) fn mac(kind: EncryptionType, key: &[u8], parts: &[&[u8]]) -> Bytes {
    match kind {
        EncryptionType::Aes128Sha1 | EncryptionType::Aes256Sha1 => hmac::<Sha1>(key, parts),
        EncryptionType::Aes128Sha256 => hmac::<Sha256>(key, parts),
        EncryptionType::Aes256Sha384 => hmac::<Sha384>(key, parts),
    }
}

fn hmac<D: EagerHash>(key: &[u8], parts: &[&[u8]]) -> Bytes {
    // A key of any length is one.
    let mut mac = Hmac::<D>::new_from_slice(key).unwrap_or_else(|_| Hmac::<D>::new(&Default::default()));
    parts.iter().for_each(|part| mac.update(part));
    Zeroizing::new(mac.finalize().into_bytes().to_vec())
}

/// The key of a password (RFC 3962 §4, RFC 8009 §4). `params` is what the centre says of it: the rounds of work.
///
/// # Errors
/// More work than is done for anybody, or parameters in a form that nobody knows.
pub(super) fn from_password(
    kind: EncryptionType,
    password: &str,
    salt: &[u8],
    params: Option<&[u8]>,
) -> Result<Bytes, KerberosError> {
    let is_sha1 = matches!(kind, EncryptionType::Aes128Sha1 | EncryptionType::Aes256Sha1);
    let usual = if is_sha1 { 4_096 } else { 32_768 };
    let rounds = match params {
        None => usual,
        Some(params) => {
            let rounds = <[u8; 4]>::try_from(params).map(u32::from_be_bytes);
            rounds.map_err(|_| {
                KerberosError::Damaged("how a password becomes a key is said in no known form")
            })?
        }
    };
    if !(1..=MAX_ROUNDS).contains(&rounds) {
        return Err(KerberosError::TooMuchWork(rounds));
    }
    let mut base = Zeroizing::new(vec![0; kind.key_len()]);
    let password = password.as_bytes();
    let named = || [kind.name().as_bytes(), &[0], salt].concat();
    match kind {
        EncryptionType::Aes128Sha256 => pbkdf2::pbkdf2_hmac::<Sha256>(password, &named(), rounds, &mut base),
        EncryptionType::Aes256Sha384 => pbkdf2::pbkdf2_hmac::<Sha384>(password, &named(), rounds, &mut base),
        _ => pbkdf2::pbkdf2_hmac::<Sha1>(password, salt, rounds, &mut base),
    }
    const LABEL: &[u8] = b"kerberos";
    Ok(match is_sha1 {
        true => from_constant(kind, &base, LABEL),
        false => from_label(kind, &base, LABEL, kind.key_len()),
    })
}
