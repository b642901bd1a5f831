//! Private keys: making them, taking them apart for a container, and signing.

use aws_lc_rs::encoding::AsBigEndian;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{self as lc, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _};
use zeroize::Zeroizing;

use crate::rsa::{self, RsaComponents};
use crate::wire::{Reader, Writer};
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
            Pair::Ecdsa(curve, pair) => PublicKey::ecdsa(*curve, pair.public_key().as_ref())?,
            Pair::Rsa(pair) => rsa::public_key(pair)?,
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
        };
        Ok(Signature { algorithm, blob })
    }

    /// The private part as `openssh-key-v1` lists it, type name first, comment last.
    pub(crate) fn encode_parts(&self) -> Result<Zeroizing<Vec<u8>>, KeyError> {
        // Sized for an 8192-bit RSA key, so that the buffer does not move and leave secrets behind.
        let mut out = Zeroizing::new(Vec::with_capacity(8 * 1024));
        out.put_string(self.public.key_type().as_bytes());
        match &self.pair {
            Pair::Ed25519(pair) => {
                let seed = pair.seed().map_err(|_| KeyError::Refused("write down an Ed25519 key"))?;
                let seed = seed.as_be_bytes().map_err(|_| KeyError::Refused("write down an Ed25519 key"))?;
                self.public.encode_parts(&mut out);
                out.put_uint32(64);
                out.put(seed.as_ref());
                out.put(pair.public_key().as_ref());
            }
            Pair::Ecdsa(_, pair) => {
                let private = pair.private_key();
                let scalar =
                    private.as_be_bytes().map_err(|_| KeyError::Refused("write down an ECDSA key"))?;
                self.public.encode_parts(&mut out);
                out.put_mpint(scalar.as_ref());
            }
            Pair::Rsa(pair) => {
                let parts = rsa::components(pair)?;
                for number in [&parts.n, &parts.e, &*parts.d, &*parts.iqmp, &*parts.p, &*parts.q] {
                    out.put_mpint(number);
                }
            }
        }
        out.put_string(self.comment.as_bytes());
        Ok(out)
    }

    /// Reads what [`Self::encode_parts`] writes, checking that the halves belong together.
    pub(crate) fn decode_parts(reader: &mut Reader<'_>) -> Result<Self, KeyError> {
        let key_type = reader.text("key type")?;
        let pair = match key_type {
            "ssh-ed25519" => decode_ed25519(reader)?,
            "ssh-rsa" => {
                let n = reader.mpint("RSA modulus")?.to_vec();
                let e = reader.mpint("RSA exponent")?.to_vec();
                let d = Zeroizing::new(reader.mpint("RSA private exponent")?.to_vec());
                let iqmp = Zeroizing::new(reader.mpint("RSA coefficient")?.to_vec());
                let p = Zeroizing::new(reader.mpint("RSA prime p")?.to_vec());
                let q = Zeroizing::new(reader.mpint("RSA prime q")?.to_vec());
                Pair::Rsa(rsa::key_pair(&RsaComponents { n, e, d, iqmp, p, q })?)
            }
            other => decode_ecdsa(other, reader)?,
        };
        let comment = String::from_utf8_lossy(reader.string("comment")?).into_owned();
        Self::from_pair(pair, comment)
    }
}

fn decode_ed25519(reader: &mut Reader<'_>) -> Result<Pair, KeyError> {
    let public = reader.string("Ed25519 public key")?;
    let both = reader.string("Ed25519 private key")?;
    let Some((seed, public_again)) = both.split_at_checked(32).filter(|(_, public)| public.len() == 32)
    else {
        return Err(KeyError::Malformed("an Ed25519 private key has 64 bytes"));
    };
    if public != public_again {
        return Err(KeyError::Inconsistent("the two copies of the public half differ"));
    }
    let pair = Ed25519KeyPair::from_seed_and_public_key(seed, public)
        .map_err(|_| KeyError::Inconsistent("the private half does not belong to the public half"))?;
    Ok(Pair::Ed25519(pair))
}

fn decode_ecdsa(key_type: &str, reader: &mut Reader<'_>) -> Result<Pair, KeyError> {
    let Some(curve) = key_type.strip_prefix("ecdsa-sha2-").and_then(Curve::from_identifier) else {
        return Err(KeyError::Unsupported {
            what: "key algorithm",
            met: key_type.chars().take(64).collect(),
            why: "we hold Ed25519, ECDSA and RSA keys",
        });
    };
    if reader.text("curve")? != curve.identifier() {
        return Err(KeyError::Inconsistent("the curve is not the one that the key type names"));
    }
    let point = reader.string("curve point")?;
    let scalar = reader.mpint("ECDSA private key")?;
    let zeros = curve
        .field_len()
        .checked_sub(scalar.len())
        .ok_or(KeyError::Inconsistent("the private number is larger than the curve"))?;
    let mut padded = Zeroizing::new(vec![0; zeros]);
    padded.extend_from_slice(scalar);
    let pair = EcdsaKeyPair::from_private_key_and_public_key(ecdsa_signing(curve), &padded, point)
        .map_err(|_| KeyError::Inconsistent("the private half does not belong to the public half"))?;
    Ok(Pair::Ecdsa(curve, pair))
}

fn ecdsa_signing(curve: Curve) -> &'static lc::EcdsaSigningAlgorithm {
    match curve {
        Curve::P256 => &lc::ECDSA_P256_SHA256_FIXED_SIGNING,
        Curve::P384 => &lc::ECDSA_P384_SHA384_FIXED_SIGNING,
        Curve::P521 => &lc::ECDSA_P521_SHA512_FIXED_SIGNING,
    }
}
