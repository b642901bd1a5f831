//! RSA keys between the components that SSH containers hold and the DER that the cryptographic library takes.

use aws_lc_rs::encoding::{AsDer, Pkcs8V1Der};
use aws_lc_rs::rsa::KeyPair;
use aws_lc_rs::signature::KeyPair as _;
use crypto_bigint::BoxedUint;
use pkcs1::der::{Decode, Encode};
use zeroize::Zeroizing;

use crate::algorithm::{MAX_RSA_BITS, MIN_RSA_BITS};
use crate::wire::trim_leading_zeros;
use crate::{KeyError, PublicKey};

/// The numbers of an RSA private key, big-endian: what `openssh-key-v1` writes down.
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
        "over 8192 bits"
    } else {
        return Ok(bits);
    };
    Err(KeyError::Unsupported { what: "RSA key of size", met: bits.to_string(), why })
}

/// A key pair of the cryptographic library from its numbers; the library checks that they belong together.
pub(crate) fn key_pair(parts: &RsaComponents) -> Result<KeyPair, KeyError> {
    checked_modulus_bits(&parts.n)?;
    let dp = reduce_by_prime_less_one(&parts.d, &parts.p)?;
    let dq = reduce_by_prime_less_one(&parts.d, &parts.q)?;
    let uint =
        |bytes| pkcs1::UintRef::new(bytes).map_err(|_| KeyError::Malformed("an RSA number is out of range"));
    let key = pkcs1::RsaPrivateKey {
        modulus: uint(&parts.n)?,
        public_exponent: uint(&parts.e)?,
        private_exponent: uint(&parts.d)?,
        prime1: uint(&parts.p)?,
        prime2: uint(&parts.q)?,
        exponent1: uint(&dp)?,
        exponent2: uint(&dq)?,
        coefficient: uint(&parts.iqmp)?,
        other_prime_infos: None,
    };
    let der = Zeroizing::new(key.to_der().map_err(|_| KeyError::Malformed("RSA numbers too large"))?);
    KeyPair::from_der(&der).map_err(|_| KeyError::Inconsistent("the RSA numbers do not belong together"))
}

/// The numbers of a key pair of the cryptographic library.
pub(crate) fn components(pair: &KeyPair) -> Result<RsaComponents, KeyError> {
    let refused = || KeyError::Refused("write down an RSA key");
    let der: Pkcs8V1Der<'_> = pair.as_der().map_err(|_| refused())?;
    let info = pkcs8::PrivateKeyInfoRef::from_der(der.as_ref()).map_err(|_| refused())?;
    let key: pkcs1::RsaPrivateKeyRef<'_> =
        pkcs1::RsaPrivateKeyRef::from_der(info.private_key.as_bytes()).map_err(|_| refused())?;
    Ok(RsaComponents {
        n: key.modulus.as_bytes().to_vec(),
        e: key.public_exponent.as_bytes().to_vec(),
        d: Zeroizing::new(key.private_exponent.as_bytes().to_vec()),
        iqmp: Zeroizing::new(key.coefficient.as_bytes().to_vec()),
        p: Zeroizing::new(key.prime1.as_bytes().to_vec()),
        q: Zeroizing::new(key.prime2.as_bytes().to_vec()),
    })
}

/// The public half of a key pair of the cryptographic library, which shows it as PKCS#1 DER.
pub(crate) fn public_key(pair: &KeyPair) -> Result<PublicKey, KeyError> {
    let key = pkcs1::RsaPublicKeyRef::from_der(pair.public_key().as_ref())
        .map_err(|_| KeyError::Refused("show an RSA key"))?;
    PublicKey::rsa(key.public_exponent.as_bytes(), key.modulus.as_bytes())
}

/// d mod (p − 1), which the SSH container leaves out and PKCS#1 wants.
fn reduce_by_prime_less_one(d: &[u8], p: &[u8]) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let wrong = KeyError::Inconsistent("an RSA prime is out of range");
    if d.len() > MAX_RSA_BITS / 8 || p.len() > MAX_RSA_BITS / 8 {
        return Err(wrong);
    }
    let precision = |bytes: &[u8]| u32::try_from(bytes.len().max(1) * 8).unwrap_or(u32::MAX);
    let number = |bytes: &[u8]| BoxedUint::from_be_slice(bytes, precision(bytes)).map_err(|_| wrong.clone());
    let prime = number(p)?;
    let one = BoxedUint::one_with_precision(prime.bits_precision());
    let less_one = prime.wrapping_sub(&one).into_nz().into_option().ok_or(wrong.clone())?;
    Ok(Zeroizing::new(trim_leading_zeros(&number(d)?.rem(&less_one).to_be_bytes()).to_vec()))
}
