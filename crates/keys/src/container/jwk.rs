//! Public keys as JSON Web Keys: RFC 7517, RFC 7518 §6 for EC and RSA, RFC 8037 for Ed25519.

use base64ct::{Base64UrlUnpadded, Encoding};
use serde_json::{Value, json};

use super::{Found, Other, PublicContainer, PublicFile, Secrecy};
use crate::{Curve, KeyError, PublicKey};

/// Names of the curves in RFC 7518 §6.2.1.1.
const CURVES: [(&str, Curve); 3] = [("P-256", Curve::P256), ("P-384", Curve::P384), ("P-521", Curve::P521)];
/// Most keys that we read in a set.
const MAX_KEYS: usize = 1024;

/// Every key of a JWK or a JWK set; nothing when the text is no such thing. `serde_json` bounds the depth itself.
pub(super) fn read(text: &str) -> Option<Vec<Result<Found, KeyError>>> {
    let value: Value = serde_json::from_str(text).ok()?;
    if let Some(keys) = value.get("keys").and_then(Value::as_array) {
        return Some(keys.iter().take(MAX_KEYS).map(decode).collect());
    }
    value.get("kty")?;
    Some(vec![decode(&value)])
}

fn decode(value: &Value) -> Result<Found, KeyError> {
    let text = |name: &str| value.get(name).and_then(Value::as_str);
    let number = |name: &str| {
        let text = text(name).ok_or(KeyError::Malformed("the JWK lacks a member that its type needs"))?;
        Base64UrlUnpadded::decode_vec(text)
            .map_err(|_| KeyError::Malformed("the base64 in the JWK is broken"))
    };
    let unsupported = KeyError::unsupported;
    if value.get("d").is_some() {
        let why = "write it as PKCS#8 first";
        return Ok(Found::Other(Other::new("a private key as a JWK", why, Secrecy::Open)));
    }
    let key = match (text("kty").unwrap_or_default(), text("crv").unwrap_or_default()) {
        ("RSA", _) => PublicKey::rsa(&number("e")?, &number("n")?)?,
        ("EC", curve) => {
            let known = CURVES.into_iter().find(|(name, _)| *name == curve).map(|(_, curve)| curve);
            let curve = known.ok_or_else(|| {
                unsupported("elliptic curve", curve, "SSH has the NIST curves P-256, P-384 and P-521")
            })?;
            let (x, y) = (number("x")?, number("y")?);
            if x.len() != curve.field_len() || y.len() != curve.field_len() {
                return Err(KeyError::Malformed("a coordinate is not as long as its curve wants"));
            }
            PublicKey::ecdsa(curve, &[&[4][..], &x, &y].concat())?
        }
        ("OKP", "Ed25519") => PublicKey::ed25519(&number("x")?)?,
        ("OKP", curve) => return Err(unsupported("key algorithm", curve, "of these, SSH has Ed25519")),
        ("oct", _) => return Err(unsupported("JWK", "oct", "a shared secret, not a key pair")),
        (other, _) => return Err(unsupported("type of JWK", other, "we read RSA, EC and OKP")),
    };
    Ok(Found::Public(PublicFile {
        key,
        comment: text("kid").unwrap_or_default().to_owned(),
        options: String::new(),
        container: PublicContainer::Jwk,
    }))
}

/// Writes a JWK; the comment becomes the key identifier.
pub(super) fn format(key: &PublicKey, comment: &str) -> String {
    let base64 = |bytes: &[u8]| Base64UrlUnpadded::encode_string(bytes);
    let mut value = match key {
        PublicKey::Ed25519(bytes) => json!({ "kty": "OKP", "crv": "Ed25519", "x": base64(bytes) }),
        PublicKey::Rsa { e, n } => json!({ "kty": "RSA", "n": base64(n), "e": base64(e) }),
        PublicKey::Ecdsa { curve, point } => {
            let name = CURVES.into_iter().find(|(_, known)| known == curve).map_or("", |(name, _)| name);
            let (x, y) = point.get(1..).unwrap_or_default().split_at(curve.field_len());
            json!({ "kty": "EC", "crv": name, "x": base64(x), "y": base64(y) })
        }
    };
    if !comment.is_empty() {
        value["kid"] = json!(comment);
    }
    std::format!("{value:#}\n")
}
