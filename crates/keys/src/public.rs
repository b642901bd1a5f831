//! Public keys: their wire blobs, and verifying signatures with them.

use aws_lc_rs::encoding::{AsDer, PublicKeyX509Der};
use aws_lc_rs::signature::{self as lc, ParsedPublicKey, UnparsedPublicKey, VerificationAlgorithm};

use crate::algorithm::MAX_FAST_RSA_BITS;
use crate::large_rsa;
use crate::rsa_numbers::checked_modulus_bits;
use crate::wire::{Reader, Writer, trim_leading_zeros};
use crate::{Curve, Fingerprint, KeyError, Signature, SignatureAlgorithm};

/// A public key.
#[derive(Clone, PartialEq, Eq, Hash)]
pub enum PublicKey {
    /// Ed25519 (RFC 8709 §4).
    Ed25519([u8; 32]),
    /// ECDSA (RFC 5656 §3.1).
    Ecdsa {
        /// The curve.
        curve: Curve,
        /// The point, uncompressed: 4, x, y.
        point: Vec<u8>,
    },
    /// RSA (RFC 4253 §6.6), 2048 to 16384 bits.
    Rsa {
        /// Public exponent, big-endian without leading zeros.
        e: Vec<u8>,
        /// Modulus, big-endian without leading zeros.
        n: Vec<u8>,
    },
}

impl std::fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "PublicKey({} {})", self.key_type(), self.fingerprint())
    }
}

impl PublicKey {
    /// Reads a wire blob (RFC 4253 §6.6).
    ///
    /// # Errors
    /// Malformed bytes, a retired or unknown algorithm, or a size outside our limits.
    pub fn decode(blob: &[u8]) -> Result<Self, KeyError> {
        let mut reader = Reader::new(blob);
        let key_type = reader.text("key type")?;
        let key = match key_type {
            "ssh-ed25519" => Self::ed25519(reader.string("Ed25519 key")?)?,
            "ssh-rsa" => {
                let e = reader.mpint("RSA exponent")?;
                let n = reader.mpint("RSA modulus")?;
                Self::rsa(e, n)?
            }
            _ => Self::decode_ecdsa(key_type, &mut reader)?,
        };
        reader.finish()?;
        Ok(key)
    }

    fn decode_ecdsa(key_type: &str, reader: &mut Reader<'_>) -> Result<Self, KeyError> {
        let curve = key_type.strip_prefix("ecdsa-sha2-").and_then(Curve::from_identifier);
        let curve = curve.ok_or_else(|| unsupported_key_type(key_type))?;
        if reader.text("curve")? != curve.identifier() {
            return Err(KeyError::Inconsistent("the curve is not the one that the key type names"));
        }
        Self::ecdsa(curve, reader.string("curve point")?)
    }

    /// An Ed25519 key from its 32 bytes.
    pub(crate) fn ed25519(bytes: &[u8]) -> Result<Self, KeyError> {
        bytes.try_into().map(Self::Ed25519).map_err(|_| KeyError::Malformed("an Ed25519 key has 32 bytes"))
    }

    /// An ECDSA key from its point, which must lie on the curve. One that is compressed is written out: RFC 5656 §3.1 lets
    /// nobody rely on servers that take it.
    pub(crate) fn ecdsa(curve: Curve, point: &[u8]) -> Result<Self, KeyError> {
        let not_on_curve = KeyError::Inconsistent("the point is not on the curve");
        let width = curve.field_len();
        match point.first() {
            Some(4) if point.len() == 1 + 2 * width => {
                ParsedPublicKey::new(ecdsa_verification(curve), point).map_err(|_| not_on_curve)?;
                Ok(Self::Ecdsa { curve, point: point.to_vec() })
            }
            Some(2 | 3) if point.len() == 1 + width => {
                let parsed = ParsedPublicKey::new(ecdsa_verification(curve), point);
                let parsed = parsed.map_err(|_| not_on_curve.clone())?;
                let info: PublicKeyX509Der<'_> = parsed.as_der().map_err(|_| not_on_curve.clone())?;
                // The library writes points in full; that of a SubjectPublicKeyInfo is its end.
                let at = info.as_ref().len().checked_sub(1 + 2 * width);
                let whole =
                    at.and_then(|at| info.as_ref().get(at..)).filter(|whole| whole.first() == Some(&4));
                Self::ecdsa(curve, whole.ok_or(not_on_curve)?)
            }
            _ => Err(KeyError::Malformed("a curve point is 4 and both coordinates, or 2 or 3 and one")),
        }
    }

    /// An RSA key from its numbers, within our limits.
    pub(crate) fn rsa(e: &[u8], n: &[u8]) -> Result<Self, KeyError> {
        checked_modulus_bits(n)?;
        let e = trim_leading_zeros(e);
        // The library takes exponents of 33 bits at most; an even one has no inverse.
        if e.is_empty() || e.len() > 5 || e == [1] || e.last().is_some_and(|last| last % 2 == 0) {
            return Err(KeyError::Inconsistent("the RSA exponent must be odd, at least 3 and short"));
        }
        Ok(Self::Rsa { e: e.to_vec(), n: trim_leading_zeros(n).to_vec() })
    }

    /// The wire blob.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(600);
        out.put_string(self.key_type().as_bytes());
        self.encode_parts(&mut out);
        out
    }

    /// The blob without the name of its type in front.
    pub(crate) fn encode_parts(&self, out: &mut Vec<u8>) {
        match self {
            Self::Ed25519(bytes) => out.put_string(bytes),
            Self::Ecdsa { curve, point } => {
                out.put_string(curve.identifier().as_bytes());
                out.put_string(point);
            }
            Self::Rsa { e, n } => {
                out.put_mpint(e);
                out.put_mpint(n);
            }
        }
    }

    /// The name of the key type at the front of the blob.
    pub fn key_type(&self) -> &'static str {
        self.signature_algorithms()[0].key_type()
    }

    /// What people call the algorithm, with its size: "Ed25519", "ECDSA P-256", "RSA 3072".
    pub fn describe(&self) -> String {
        match self {
            Self::Ed25519(_) => "Ed25519".into(),
            Self::Ecdsa { curve: Curve::P256, .. } => "ECDSA P-256".into(),
            Self::Ecdsa { curve: Curve::P384, .. } => "ECDSA P-384".into(),
            Self::Ecdsa { curve: Curve::P521, .. } => "ECDSA P-521".into(),
            Self::Rsa { n, .. } => {
                format!("RSA {}", n.len() * 8 - n.first().map_or(0, |b| b.leading_zeros() as usize))
            }
        }
    }

    /// The signature algorithms that this key can be used with, best first.
    pub fn signature_algorithms(&self) -> &'static [SignatureAlgorithm] {
        use SignatureAlgorithm::{Ecdsa, Ed25519, RsaSha256, RsaSha512};
        match self {
            Self::Ed25519(_) => &[Ed25519],
            Self::Ecdsa { curve: Curve::P256, .. } => &[Ecdsa(Curve::P256)],
            Self::Ecdsa { curve: Curve::P384, .. } => &[Ecdsa(Curve::P384)],
            Self::Ecdsa { curve: Curve::P521, .. } => &[Ecdsa(Curve::P521)],
            Self::Rsa { .. } => &[RsaSha512, RsaSha256],
        }
    }

    /// The SHA-256 fingerprint.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of_blob(&self.encode())
    }

    /// Verifies a signature over `message`.
    ///
    /// # Errors
    /// [`KeyError::BadSignature`] when it does not verify or its algorithm is not one for this key.
    pub fn verify(&self, message: &[u8], signature: &Signature) -> Result<(), KeyError> {
        let bad = KeyError::BadSignature;
        match (self, signature.algorithm) {
            (Self::Ed25519(key), SignatureAlgorithm::Ed25519) => {
                check(&lc::ED25519, key, message, &signature.blob)
            }
            (Self::Ecdsa { curve, point }, SignatureAlgorithm::Ecdsa(signed_on)) if *curve == signed_on => {
                let fixed = ecdsa_fixed_from_wire(*curve, &signature.blob)?;
                check(ecdsa_verification(*curve), point, message, &fixed)
            }
            (Self::Rsa { e, n }, SignatureAlgorithm::RsaSha256 | SignatureAlgorithm::RsaSha512) => {
                let algorithm: &'static lc::RsaParameters = match signature.algorithm {
                    SignatureAlgorithm::RsaSha256 => &lc::RSA_PKCS1_2048_8192_SHA256,
                    _ => &lc::RSA_PKCS1_2048_8192_SHA512,
                };
                // Some servers drop leading zero bytes of the number; RFC 8332 §3 allows us to put them back.
                let mut blob = vec![0; n.len().saturating_sub(signature.blob.len())];
                blob.extend_from_slice(&signature.blob);
                if n.len() * 8 > MAX_FAST_RSA_BITS {
                    return large_rsa::verify(e, n, message, signature.algorithm, &blob);
                }
                lc::RsaPublicKeyComponents { n, e }.verify(algorithm, message, &blob).map_err(|_| bad)
            }
            _ => Err(bad),
        }
    }
}

/// Why we hold no keys of this type, by its name on the wire.
pub(crate) fn unsupported_key_type(key_type: &str) -> KeyError {
    let why = match key_type {
        "ssh-dss" => "DSA, retired by RFC 9142",
        "ssh-ed448" => "Ed448, which servers don't take",
        name if name.contains("-cert-") => "a certificate, not a plain key",
        name if name.starts_with("sk-") => "its private half lives in a hardware token",
        _ => "we hold Ed25519, ECDSA on the NIST curves, and RSA keys",
    };
    KeyError::unsupported("key algorithm", key_type, why)
}

fn check(
    algorithm: &'static dyn VerificationAlgorithm,
    key: &[u8],
    message: &[u8],
    signature: &[u8],
) -> Result<(), KeyError> {
    UnparsedPublicKey::new(algorithm, key).verify(message, signature).map_err(|_| KeyError::BadSignature)
}

fn ecdsa_verification(curve: Curve) -> &'static lc::EcdsaVerificationAlgorithm {
    match curve {
        Curve::P256 => &lc::ECDSA_P256_SHA256_FIXED,
        Curve::P384 => &lc::ECDSA_P384_SHA384_FIXED,
        Curve::P521 => &lc::ECDSA_P521_SHA512_FIXED,
    }
}

/// Two mpints (RFC 5656 §3.1.2) to r and s at full width, which the library takes.
fn ecdsa_fixed_from_wire(curve: Curve, blob: &[u8]) -> Result<Vec<u8>, KeyError> {
    let width = curve.field_len();
    let mut reader = Reader::new(blob);
    let mut fixed = Vec::with_capacity(2 * width);
    for field in ["signature r", "signature s"] {
        let number = reader.mpint(field)?;
        let zeros = width.checked_sub(number.len()).ok_or(KeyError::BadSignature)?;
        fixed.resize(fixed.len() + zeros, 0);
        fixed.extend_from_slice(number);
    }
    reader.finish()?;
    Ok(fixed)
}
