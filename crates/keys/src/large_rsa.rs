//! RSA above 8192 bits, which the first cryptographic library refuses: a second, slower one signs and verifies.

use ::rsa::rand_core::{TryCryptoRng, TryRng};
use ::rsa::{PrivateKey, PublicKey};
use crypto_bigint::BoxedUint;
use sha2::{Sha256, Sha512};

use crate::algorithm::{MAX_RSA_BITS, MIN_RSA_BITS};
use crate::rsa_numbers::{RsaComponents, uint};
use crate::{KeyError, SignatureAlgorithm};

/// The library's form of a key whose numbers are known to belong together.
pub(crate) fn key_pair(parts: &RsaComponents) -> Result<PrivateKey, KeyError> {
    let primes = vec![uint(&parts.p)?, uint(&parts.q)?];
    PrivateKey::from_components(uint(&parts.n)?, exponent(&parts.e)?, uint(&parts.d)?, primes)
        .map_err(|_| KeyError::Inconsistent("the RSA numbers do not belong together"))
}

/// Signs, blinded.
pub(crate) fn sign(
    key: &PrivateKey,
    message: &[u8],
    algorithm: SignatureAlgorithm,
) -> Result<Vec<u8>, KeyError> {
    let random = &mut LibraryRandom;
    match algorithm {
        SignatureAlgorithm::RsaSha256 => key.pkcs1v15_sign_with_rng::<Sha256, _>(random, message),
        _ => key.pkcs1v15_sign_with_rng::<Sha512, _>(random, message),
    }
    .map_err(|_| KeyError::Refused("sign"))
}

/// Verifies a signature as long as the modulus.
pub(crate) fn verify(
    e: &[u8],
    n: &[u8],
    message: &[u8],
    algorithm: SignatureAlgorithm,
    signature: &[u8],
) -> Result<(), KeyError> {
    let key = PublicKey::new_with_size_limits(uint(n)?, exponent(e)?, MIN_RSA_BITS..=MAX_RSA_BITS)
        .map_err(|_| KeyError::BadSignature)?;
    match algorithm {
        SignatureAlgorithm::RsaSha256 => key.pkcs1v15_verify::<Sha256>(message, signature),
        _ => key.pkcs1v15_verify::<Sha512>(message, signature),
    }
    .map_err(|_| KeyError::BadSignature)
}

/// The library wants public exponents in 64 bits.
fn exponent(e: &[u8]) -> Result<BoxedUint, KeyError> {
    BoxedUint::from_be_slice(e, 64).map_err(|_| KeyError::Inconsistent("the RSA exponent is too long"))
}

/// The first library's random source, for blinding.
struct LibraryRandom;

impl TryRng for LibraryRandom {
    type Error = core::fmt::Error;

    fn try_next_u32(&mut self) -> Result<u32, Self::Error> {
        let mut bytes = [0; 4];
        self.try_fill_bytes(&mut bytes).map(|()| u32::from_ne_bytes(bytes))
    }

    fn try_next_u64(&mut self) -> Result<u64, Self::Error> {
        let mut bytes = [0; 8];
        self.try_fill_bytes(&mut bytes).map(|()| u64::from_ne_bytes(bytes))
    }

    fn try_fill_bytes(&mut self, out: &mut [u8]) -> Result<(), Self::Error> {
        aws_lc_rs::rand::fill(out).map_err(|_| core::fmt::Error)
    }
}

impl TryCryptoRng for LibraryRandom {}
