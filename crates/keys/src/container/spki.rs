//! SubjectPublicKeyInfo (RFC 5280 §4.1.2.7, RFC 5480, RFC 8410) and the `RSAPublicKey` of RFC 8017: public keys in DER.

use ::pkcs8::spki::{AlgorithmIdentifierRef, SubjectPublicKeyInfoRef};
use der::asn1::{AnyRef, BitStringRef, Null};
use der::{Decode, Encode};

use super::{oids, sec1};
use crate::{KeyError, PublicKey};

/// The label of SubjectPublicKeyInfo.
pub(crate) const LABEL: &str = "PUBLIC KEY";
/// The label of RSAPublicKey.
pub(crate) const PKCS1_LABEL: &str = "RSA PUBLIC KEY";

/// Reads SubjectPublicKeyInfo.
pub(crate) fn decode(bytes: &[u8]) -> Result<PublicKey, KeyError> {
    let info = SubjectPublicKeyInfoRef::from_der(bytes)
        .map_err(|_| KeyError::Malformed("it is no SubjectPublicKeyInfo of RFC 5280"))?;
    let content = info
        .subject_public_key
        .as_bytes()
        .ok_or(KeyError::Malformed("the public key is not a whole number of bytes"))?;
    match info.algorithm.oid {
        oids::RSA => decode_pkcs1(content),
        oids::EC => {
            let curve = info.algorithm.parameters_oid().map_err(|_| sec1::spelled_out())?;
            PublicKey::ecdsa(oids::curve(curve)?, content)
        }
        oids::ED25519 => PublicKey::ed25519(content),
        other => Err(oids::unsupported(other)),
    }
}

/// The size of an RSA key in SubjectPublicKeyInfo, in bits, also of one that is too small to be read as a key.
pub(crate) fn rsa_bits(bytes: &[u8]) -> Option<usize> {
    let info =
        SubjectPublicKeyInfoRef::from_der(bytes).ok().filter(|info| info.algorithm.oid == oids::RSA)?;
    let key = pkcs1::RsaPublicKeyRef::from_der(info.subject_public_key.as_bytes()?).ok()?;
    let modulus = key.modulus.as_bytes();
    Some(modulus.len() * 8 - modulus.first().map_or(0, |byte| byte.leading_zeros() as usize))
}

/// Writes SubjectPublicKeyInfo.
pub(crate) fn encode(key: &PublicKey) -> Result<Vec<u8>, KeyError> {
    let refused = |_| KeyError::Refused("write down a public key");
    let curve_oid;
    let pkcs1;
    let (algorithm, content) = match key {
        PublicKey::Ed25519(bytes) => {
            (AlgorithmIdentifierRef { oid: oids::ED25519, parameters: None }, bytes.as_slice())
        }
        PublicKey::Ecdsa { curve, point } => {
            curve_oid = oids::of_curve(*curve);
            let parameters = Some(AnyRef::from(&curve_oid));
            (AlgorithmIdentifierRef { oid: oids::EC, parameters }, point.as_slice())
        }
        PublicKey::Rsa { .. } => {
            pkcs1 = encode_pkcs1(key)?;
            (AlgorithmIdentifierRef { oid: oids::RSA, parameters: Some(Null.into()) }, pkcs1.as_slice())
        }
    };
    let subject_public_key = BitStringRef::from_bytes(content).map_err(refused)?;
    SubjectPublicKeyInfoRef { algorithm, subject_public_key }.to_der().map_err(refused)
}

/// Reads RSAPublicKey (RFC 8017 §A.1.1).
pub(crate) fn decode_pkcs1(bytes: &[u8]) -> Result<PublicKey, KeyError> {
    let key = pkcs1::RsaPublicKeyRef::from_der(bytes)
        .map_err(|_| KeyError::Malformed("it is no RSAPublicKey of RFC 8017"))?;
    PublicKey::rsa(key.public_exponent.as_bytes(), key.modulus.as_bytes())
}

/// Writes RSAPublicKey.
pub(crate) fn encode_pkcs1(key: &PublicKey) -> Result<Vec<u8>, KeyError> {
    let refused = |_| KeyError::Refused("write down a public key");
    let PublicKey::Rsa { e, n } = key else {
        return Err(KeyError::Unsupported {
            what: "container",
            met: "pkcs1".into(),
            why: "PKCS#1 holds RSA keys only; spki holds every kind",
        });
    };
    pkcs1::RsaPublicKeyRef {
        modulus: pkcs1::UintRef::new(n).map_err(refused)?,
        public_exponent: pkcs1::UintRef::new(e).map_err(refused)?,
    }
    .to_der()
    .map_err(refused)
}
