//! Object identifiers of algorithms that key files name, and what we say of those that we don't hold.

use der::asn1::ObjectIdentifier;

use crate::{Curve, KeyError};

/// rsaEncryption (RFC 8017 §A.1)
pub(super) const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
/// id-ecPublicKey (RFC 5480 §2.1.1)
pub(super) const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
/// id-Ed25519 (RFC 8410 §3)
pub(super) const ED25519: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.101.112");
/// id-PBES2 (RFC 8018 §A.4)
pub(super) const PBES2: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.13");

const CURVES: [(Curve, ObjectIdentifier); 3] = [
    (Curve::P256, ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7")),
    (Curve::P384, ObjectIdentifier::new_unwrap("1.3.132.0.34")),
    (Curve::P521, ObjectIdentifier::new_unwrap("1.3.132.0.35")),
];

/// The identifier of a curve (RFC 5480 §2.1.1.1).
pub(super) fn of_curve(curve: Curve) -> ObjectIdentifier {
    match curve {
        Curve::P256 => CURVES[0].1,
        Curve::P384 => CURVES[1].1,
        Curve::P521 => CURVES[2].1,
    }
}

/// The curve with this identifier.
///
/// # Errors
/// [`KeyError::Unsupported`], by name where we know it.
pub(super) fn curve(oid: ObjectIdentifier) -> Result<Curve, KeyError> {
    if let Some((curve, _)) = CURVES.into_iter().find(|(_, known)| *known == oid) {
        return Ok(curve);
    }
    let met = match oid.to_string().as_str() {
        "1.3.132.0.10" => "secp256k1".to_owned(),
        "1.3.36.3.3.2.8.1.1.7" => "brainpoolP256r1".into(),
        "1.3.36.3.3.2.8.1.1.11" => "brainpoolP384r1".into(),
        "1.3.36.3.3.2.8.1.1.13" => "brainpoolP512r1".into(),
        "1.3.132.0.33" => "secp224r1".into(),
        other => other.to_owned(),
    };
    Err(KeyError::Unsupported {
        what: "elliptic curve",
        met,
        why: "SSH has the NIST curves P-256, P-384 and P-521",
    })
}

/// What we say of a key algorithm that we don't hold.
pub(super) fn unsupported(oid: ObjectIdentifier) -> KeyError {
    let (met, why) = match oid.to_string().as_str() {
        "1.2.840.10040.4.1" => ("DSA".to_owned(), "retired by RFC 9142"),
        "1.3.101.113" => ("Ed448".into(), "servers don't take it"),
        "1.3.101.110" => ("X25519".into(), "it agrees on secrets and cannot sign"),
        "1.3.101.111" => ("X448".into(), "it agrees on secrets and cannot sign"),
        "1.2.840.113549.1.3.1" => ("Diffie-Hellman".into(), "it agrees on secrets and cannot sign"),
        "1.2.840.113549.1.1.10" => ("RSASSA-PSS".into(), "SSH signs with PKCS#1 padding (RFC 8332 §3)"),
        other => (other.to_owned(), "we hold Ed25519, ECDSA on the NIST curves, and RSA keys"),
    };
    KeyError::Unsupported { what: "key algorithm", met, why }
}
