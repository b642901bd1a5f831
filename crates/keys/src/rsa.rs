//! RSA keys between the components that containers hold and the DER that the cryptographic library takes, and the
//! checks that the components belong together.

use aws_lc_rs::encoding::{AsDer, Pkcs8V1Der};
use aws_lc_rs::rsa::KeyPair;
use aws_lc_rs::signature::KeyPair as _;
use crypto_bigint::{BoxedUint, ConcatenatingMul, Resize};
use der::{Decode, Encode};
use zeroize::Zeroizing;

use crate::rsa_numbers::{RsaComponents, uint};
use crate::wire::trim_leading_zeros;
use crate::{KeyError, PublicKey};

impl RsaComponents {
    /// Checks RFC 8017 §3.2: p·q = n, d·e ≡ 1 modulo p − 1 and q − 1, and the coefficient inverts q modulo p.
    pub(crate) fn check(&self) -> Result<(), KeyError> {
        PublicKey::rsa(&self.e, &self.n)?;
        let (p, q, d) = (uint(&self.p)?, uint(&self.q)?, uint(&self.d)?);
        let one = BoxedUint::one();
        if p <= one || q <= one || p == q {
            return Err(KeyError::Inconsistent("an RSA prime is out of range"));
        }
        let product = p.concatenating_mul(&q);
        if trim_leading_zeros(&product.to_be_bytes()) != trim_leading_zeros(&self.n) {
            return Err(KeyError::Inconsistent("the RSA primes do not multiply to the modulus"));
        }
        if d >= uint(&self.n)? {
            return Err(KeyError::Inconsistent("the RSA private exponent is larger than the modulus"));
        }
        let product = d.concatenating_mul(&uint(&self.e)?);
        for prime in [&p, &q] {
            let less_one = prime
                .wrapping_sub(BoxedUint::one_with_precision(prime.bits_precision()))
                .into_nz()
                .into_option()
                .ok_or(KeyError::Inconsistent("an RSA prime is out of range"))?;
            let rest = product
                .clone()
                .resize(product.bits_precision().max(less_one.bits_precision()))
                .rem(&less_one);
            if trim_leading_zeros(&rest.to_be_bytes()) != [1] {
                return Err(KeyError::Inconsistent("the RSA exponents do not invert each other"));
            }
        }
        let product = uint(&self.iqmp)?.concatenating_mul(&q);
        let modulus =
            p.into_nz().into_option().ok_or(KeyError::Inconsistent("an RSA prime is out of range"))?;
        let rest =
            product.clone().resize(product.bits_precision().max(modulus.bits_precision())).rem(&modulus);
        if trim_leading_zeros(&rest.to_be_bytes()) != [1] {
            return Err(KeyError::Inconsistent("the RSA coefficient does not invert the second prime"));
        }
        Ok(())
    }

    /// The `RSAPrivateKey` of RFC 8017 §A.1.2.
    pub(crate) fn to_pkcs1_der(&self) -> Result<Zeroizing<Vec<u8>>, KeyError> {
        let dp = reduce_by_prime_less_one(&self.d, &self.p)?;
        let dq = reduce_by_prime_less_one(&self.d, &self.q)?;
        let number = |bytes| {
            pkcs1::UintRef::new(bytes).map_err(|_| KeyError::Malformed("an RSA number is out of range"))
        };
        let key = pkcs1::RsaPrivateKeyRef {
            modulus: number(&self.n)?,
            public_exponent: number(&self.e)?,
            private_exponent: number(&self.d)?,
            prime1: number(&self.p)?,
            prime2: number(&self.q)?,
            exponent1: number(&dp)?,
            exponent2: number(&dq)?,
            coefficient: number(&self.iqmp)?,
            other_prime_infos: None,
        };
        key.to_der().map(Zeroizing::new).map_err(|_| KeyError::Malformed("RSA numbers too large"))
    }

    /// Reads the `RSAPrivateKey` of RFC 8017 §A.1.2, checking the numbers that we don't keep.
    pub(crate) fn from_pkcs1_der(bytes: &[u8]) -> Result<Self, KeyError> {
        let key = pkcs1::RsaPrivateKeyRef::from_der(bytes)
            .map_err(|_| KeyError::Malformed("it is no RSAPrivateKey of RFC 8017"))?;
        if key.other_prime_infos.is_some() {
            return Err(KeyError::Unsupported {
                what: "RSA key",
                met: "multi-prime".into(),
                why: "SSH knows two primes (RFC 8017 §3.2 allows more)",
            });
        }
        let parts = Self {
            n: key.modulus.as_bytes().to_vec(),
            e: key.public_exponent.as_bytes().to_vec(),
            d: Zeroizing::new(key.private_exponent.as_bytes().to_vec()),
            iqmp: Zeroizing::new(key.coefficient.as_bytes().to_vec()),
            p: Zeroizing::new(key.prime1.as_bytes().to_vec()),
            q: Zeroizing::new(key.prime2.as_bytes().to_vec()),
        };
        for (given, prime) in [(key.exponent1, &parts.p), (key.exponent2, &parts.q)] {
            if given.as_bytes() != reduce_by_prime_less_one(&parts.d, prime)?.as_slice() {
                return Err(KeyError::Inconsistent("the RSA exponents of the primes do not fit"));
            }
        }
        Ok(parts)
    }

    /// A key pair of the cryptographic library, which checks the numbers once more.
    pub(crate) fn to_key_pair(&self) -> Result<KeyPair, KeyError> {
        KeyPair::from_der(&self.to_pkcs1_der()?)
            .map_err(|_| KeyError::Inconsistent("the RSA numbers do not belong together"))
    }

    /// The numbers of a key pair of the cryptographic library.
    pub(crate) fn from_key_pair(pair: &KeyPair) -> Result<Self, KeyError> {
        let refused = || KeyError::Refused("write down an RSA key");
        let der: Pkcs8V1Der<'_> = pair.as_der().map_err(|_| refused())?;
        let info = pkcs8::PrivateKeyInfoRef::from_der(der.as_ref()).map_err(|_| refused())?;
        Self::from_pkcs1_der(info.private_key.as_bytes())
    }
}

/// The public half of a key pair of the cryptographic library, which shows it as PKCS#1 DER.
pub(crate) fn public_key(pair: &KeyPair) -> Result<PublicKey, KeyError> {
    let key = pkcs1::RsaPublicKeyRef::from_der(pair.public_key().as_ref())
        .map_err(|_| KeyError::Refused("show an RSA key"))?;
    PublicKey::rsa(key.public_exponent.as_bytes(), key.modulus.as_bytes())
}

/// d mod (p − 1), which the SSH container leaves out and PKCS#1 wants.
fn reduce_by_prime_less_one(d: &[u8], p: &[u8]) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let wrong = || KeyError::Inconsistent("an RSA prime is out of range");
    let prime = uint(p)?;
    let one = BoxedUint::one_with_precision(prime.bits_precision());
    let less_one = prime.wrapping_sub(&one).into_nz().into_option().ok_or_else(wrong)?;
    Ok(Zeroizing::new(trim_leading_zeros(&uint(d)?.rem(&less_one).to_be_bytes()).to_vec()))
}
