//! Private keys: making them, taking them apart for a container, and signing.

use aws_lc_rs::encoding::AsBigEndian;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{self as lc, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _};
use zeroize::Zeroizing;

use crate::algorithm::MAX_FAST_RSA_BITS;
use crate::large_rsa;
use crate::parts::PrivateParts;
use crate::rsa;
use crate::rsa_numbers::{RsaComponents, checked_modulus_bits};
use crate::wire::{Writer, trim_leading_zeros};
use crate::{Curve, KeyAlgorithm, KeyError, PublicKey, RsaBits, Signature, SignatureAlgorithm};

/// A private key with its public half and its comment.
///
/// The secret numbers live inside the cryptographic library, which wipes them when the key is dropped.
pub struct PrivateKey {
    pair: Pair,
    public: PublicKey,
    comment: String,
}

enum Pair {
    Ed25519(Ed25519KeyPair),
    Ecdsa(Curve, EcdsaKeyPair),
    Rsa(aws_lc_rs::rsa::KeyPair),
    /// Above what the first library takes.
    LargeRsa(Box<(::rsa::PrivateKey, RsaComponents)>),
}

impl std::fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "PrivateKey(… of {:?})", self.public)
    }
}

impl PrivateKey {
    /// Makes a new key pair. RSA takes seconds at the larger sizes.
    ///
    /// # Errors
    /// [`KeyError::Refused`] when the cryptographic library fails.
    pub fn generate(algorithm: KeyAlgorithm, comment: &str) -> Result<Self, KeyError> {
        let refused = |_| KeyError::Refused("make a key pair");
        let pair = match algorithm {
            KeyAlgorithm::Ed25519 => Pair::Ed25519(Ed25519KeyPair::generate().map_err(refused)?),
            KeyAlgorithm::Ecdsa(curve) => {
                Pair::Ecdsa(curve, EcdsaKeyPair::generate(ecdsa_signing(curve)).map_err(refused)?)
            }
            KeyAlgorithm::Rsa(bits) => {
                let size = match bits {
                    RsaBits::B2048 => KeySize::Rsa2048,
                    RsaBits::B3072 => KeySize::Rsa3072,
                    RsaBits::B4096 => KeySize::Rsa4096,
                    RsaBits::B8192 => KeySize::Rsa8192,
                };
                Pair::Rsa(aws_lc_rs::rsa::KeyPair::generate(size).map_err(refused)?)
            }
        };
        Self::from_pair(pair, comment.to_owned())
    }

    fn from_pair(pair: Pair, comment: String) -> Result<Self, KeyError> {
        let public = match &pair {
            Pair::Ed25519(pair) => PublicKey::Ed25519(
                pair.public_key()
                    .as_ref()
                    .try_into()
                    .map_err(|_| KeyError::Refused("show an Ed25519 key"))?,
            ),
            // The library made or checked the pair: its point is on the curve.
            Pair::Ecdsa(curve, pair) => {
                PublicKey::Ecdsa { curve: *curve, point: pair.public_key().as_ref().to_vec() }
            }
            Pair::Rsa(pair) => rsa::public_key(pair)?,
            Pair::LargeRsa(large) => PublicKey::rsa(&large.1.e, &large.1.n)?,
        };
        Ok(Self { pair, public, comment })
    }

    /// The public half.
    pub fn public(&self) -> &PublicKey {
        &self.public
    }

    /// The comment: whose key it is, in free words.
    pub fn comment(&self) -> &str {
        &self.comment
    }

    /// The same key with another comment.
    pub fn with_comment(mut self, comment: String) -> Self {
        self.comment = comment;
        self
    }

    /// The signature algorithms that this key can make, best first.
    pub fn signature_algorithms(&self) -> &'static [SignatureAlgorithm] {
        self.public.signature_algorithms()
    }

    /// Signs `message`.
    ///
    /// # Errors
    /// [`KeyError::Refused`] when `algorithm` is not one of [`Self::signature_algorithms`].
    pub fn sign(&self, message: &[u8], algorithm: SignatureAlgorithm) -> Result<Signature, KeyError> {
        let refused = |_| KeyError::Refused("sign");
        if !self.signature_algorithms().contains(&algorithm) {
            return Err(KeyError::Refused("sign with an algorithm of another kind of key"));
        }
        let random = aws_lc_rs::rand::SystemRandom::new();
        let blob = match &self.pair {
            Pair::Ed25519(pair) => pair.sign(message).as_ref().to_vec(),
            Pair::Ecdsa(_, pair) => {
                let fixed = pair.sign(&random, message).map_err(refused)?;
                let (r, s) = fixed.as_ref().split_at(fixed.as_ref().len() / 2);
                let mut blob = Vec::with_capacity(fixed.as_ref().len() + 10);
                blob.put_mpint(r);
                blob.put_mpint(s);
                blob
            }
            Pair::Rsa(pair) => {
                let padding: &'static dyn lc::RsaEncoding = match algorithm {
                    SignatureAlgorithm::RsaSha256 => &lc::RSA_PKCS1_SHA256,
                    _ => &lc::RSA_PKCS1_SHA512,
                };
                let mut blob = vec![0; pair.public_modulus_len()];
                pair.sign(padding, &random, message, &mut blob).map_err(refused)?;
                blob
            }
            Pair::LargeRsa(large) => large_rsa::sign(&large.0, message, algorithm)?,
        };
        Ok(Signature { algorithm, blob })
    }

    /// The numbers, for a container.
    pub(crate) fn parts(&self) -> Result<PrivateParts, KeyError> {
        Ok(match &self.pair {
            Pair::Ed25519(pair) => {
                let refused = |_| KeyError::Refused("write down an Ed25519 key");
                let seed = pair.seed().map_err(refused)?;
                let seed = seed.as_be_bytes().map_err(refused)?;
                PrivateParts::Ed25519 {
                    seed: Zeroizing::new(seed.as_ref().to_vec()),
                    public: Some(pair.public_key().as_ref().to_vec()),
                }
            }
            Pair::Ecdsa(curve, pair) => {
                let private = pair.private_key();
                let scalar =
                    private.as_be_bytes().map_err(|_| KeyError::Refused("write down an ECDSA key"))?;
                PrivateParts::Ecdsa {
                    curve: *curve,
                    scalar: Zeroizing::new(scalar.as_ref().to_vec()),
                    point: Some(pair.public_key().as_ref().to_vec()),
                }
            }
            Pair::Rsa(pair) => PrivateParts::Rsa(RsaComponents::from_key_pair(pair)?),
            Pair::LargeRsa(large) => PrivateParts::Rsa(large.1.clone()),
        })
    }

    /// A key from its numbers, which are checked: halves that match, a point on its curve, RSA numbers that fit.
    pub(crate) fn from_parts(parts: PrivateParts, comment: String) -> Result<Self, KeyError> {
        let mismatch = KeyError::Inconsistent("the private half does not belong to the public half");
        let pair = match parts {
            PrivateParts::Ed25519 { seed, public } => Pair::Ed25519(match public {
                Some(public) => {
                    Ed25519KeyPair::from_seed_and_public_key(&seed, &public).map_err(|_| mismatch)?
                }
                None => Ed25519KeyPair::from_seed_unchecked(&seed)
                    .map_err(|_| KeyError::Malformed("an Ed25519 private key has 32 bytes"))?,
            }),
            PrivateParts::Ecdsa { curve, scalar, point } => {
                let whole = point.as_deref().filter(|point| point.first() == Some(&4));
                if let Some(point) = whole {
                    PublicKey::ecdsa(curve, point)?;
                }
                let scalar = at_full_width(curve, &scalar)?;
                let der = crate::container::sec1::encode(curve, &scalar, whole)?;
                let pair = EcdsaKeyPair::from_private_key_der(ecdsa_signing(curve), &der)
                    .map_err(|_| mismatch.clone())?;
                let computed = pair.public_key().as_ref();
                if point.is_some_and(|point| point != computed && point != compressed(computed)) {
                    return Err(mismatch);
                }
                Pair::Ecdsa(curve, pair)
            }
            PrivateParts::Rsa(parts) => {
                let pair = match checked_modulus_bits(&parts.n)? > MAX_FAST_RSA_BITS {
                    // The library makes all of our checks, faster; ours then say which number it is.
                    false => {
                        Pair::Rsa(parts.to_key_pair().map_err(|error| parts.check().err().unwrap_or(error))?)
                    }
                    true => {
                        parts.check()?;
                        Pair::LargeRsa(Box::new((large_rsa::key_pair(&parts)?, parts)))
                    }
                };
                let key = Self::from_pair(pair, comment)?;
                key.check_signs()?;
                return Ok(key);
            }
        };
        Self::from_pair(pair, comment)
    }

    /// Signs and verifies. The numbers of an RSA key can fit each other while a "prime" is none, which shows in nothing
    /// else that is as quick.
    fn check_signs(&self) -> Result<(), KeyError> {
        let algorithm = SignatureAlgorithm::RsaSha256;
        let message = b"whether the halves belong together";
        let verified = self.sign(message, algorithm).and_then(|made| self.public.verify(message, &made));
        verified.map_err(|_| {
            KeyError::Inconsistent("what the private half signs, the public half does not verify")
        })
    }
}

/// The compressed form of a point: the parity of y, and x (SEC 1 §2.3.3).
fn compressed(point: &[u8]) -> Vec<u8> {
    let odd = point.last().is_some_and(|last| last % 2 == 1);
    let x = point.get(1..=point.len() / 2).unwrap_or_default();
    [&[2 + u8::from(odd)], x].concat()
}

/// A scalar with the leading zeros that its curve wants.
fn at_full_width(curve: Curve, scalar: &[u8]) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let scalar = trim_leading_zeros(scalar);
    let zeros = curve
        .field_len()
        .checked_sub(scalar.len())
        .ok_or(KeyError::Inconsistent("the private number is larger than the curve"))?;
    let mut padded = Zeroizing::new(vec![0; curve.field_len()]);
    if let Some(place) = padded.get_mut(zeros..) {
        place.copy_from_slice(scalar);
    }
    Ok(padded)
}

fn ecdsa_signing(curve: Curve) -> &'static lc::EcdsaSigningAlgorithm {
    match curve {
        Curve::P256 => &lc::ECDSA_P256_SHA256_FIXED_SIGNING,
        Curve::P384 => &lc::ECDSA_P384_SHA384_FIXED_SIGNING,
        Curve::P521 => &lc::ECDSA_P521_SHA512_FIXED_SIGNING,
    }
}
