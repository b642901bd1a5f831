//! Whether a key made a signature that stands in DER: of a certificate, or of a request for one.

use std::net::IpAddr;

use aws_lc_rs::signature::{self as lc, UnparsedPublicKey, VerificationAlgorithm};
use der::asn1::ObjectIdentifier;
use der::{Decode, Encode};
use x509_cert::Certificate;
use x509_cert::ext::pkix::NameConstraints;
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::spki::SubjectPublicKeyInfoRef;

use crate::container::spki;
use crate::{CertificateFault, CertificateName, Curve, PublicKey, TlsCertificate};

/// What kind of key makes a signature.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Ed25519,
    Ecdsa(Curve),
    Rsa,
}

const ED25519: &str = "1.3.101.112";
const ECDSA_SHA1: &str = "1.2.840.10045.4.1";
const ECDSA_SHA256: &str = "1.2.840.10045.4.3.2";
const ECDSA_SHA384: &str = "1.2.840.10045.4.3.3";
const ECDSA_SHA512: &str = "1.2.840.10045.4.3.4";

/// Algorithms that we verify, each by its number and for its kind of key (RFC 8410, RFC 5758, RFC 4055). The weak are verified as well: that they are
/// weak is told apart from that.
fn algorithms() -> [(&'static str, Kind, &'static dyn VerificationAlgorithm); 12] {
    use Curve::{P256, P384, P521};
    [
        (ED25519, Kind::Ed25519, &lc::ED25519),
        (ECDSA_SHA256, Kind::Ecdsa(P256), &lc::ECDSA_P256_SHA256_ASN1),
        (ECDSA_SHA384, Kind::Ecdsa(P256), &lc::ECDSA_P256_SHA384_ASN1),
        (ECDSA_SHA256, Kind::Ecdsa(P384), &lc::ECDSA_P384_SHA256_ASN1),
        (ECDSA_SHA384, Kind::Ecdsa(P384), &lc::ECDSA_P384_SHA384_ASN1),
        (ECDSA_SHA256, Kind::Ecdsa(P521), &lc::ECDSA_P521_SHA256_ASN1),
        (ECDSA_SHA384, Kind::Ecdsa(P521), &lc::ECDSA_P521_SHA384_ASN1),
        (ECDSA_SHA512, Kind::Ecdsa(P521), &lc::ECDSA_P521_SHA512_ASN1),
        ("1.2.840.113549.1.1.5", Kind::Rsa, &lc::RSA_PKCS1_1024_8192_SHA1_FOR_LEGACY_USE_ONLY),
        ("1.2.840.113549.1.1.11", Kind::Rsa, &lc::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY),
        ("1.2.840.113549.1.1.12", Kind::Rsa, &lc::RSA_PKCS1_2048_8192_SHA384),
        ("1.2.840.113549.1.1.13", Kind::Rsa, &lc::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY),
    ]
}

/// The kind of key by which signatures with this number are made; none of numbers that are not handled.
fn is_for(oid: &str, kind: Kind) -> Option<bool> {
    match oid {
        ED25519 => Some(kind == Kind::Ed25519),
        ECDSA_SHA1 | ECDSA_SHA256 | ECDSA_SHA384 | ECDSA_SHA512 => Some(matches!(kind, Kind::Ecdsa(_))),
        _ if oid.starts_with("1.2.840.113549.1.1.") => Some(kind == Kind::Rsa),
        _ => None,
    }
}

/// Whether the key in this SubjectPublicKeyInfo made this signature over this message; none where it is by an algorithm that we don't handle.
pub(crate) fn is_signed_by(
    key_info: &[u8],
    oid: ObjectIdentifier,
    message: &[u8],
    signature: &[u8],
) -> Option<bool> {
    let info = SubjectPublicKeyInfoRef::from_der(key_info).ok()?;
    let bytes = info.subject_public_key.as_bytes()?;
    let kind = match spki::decode(key_info) {
        Ok(PublicKey::Ed25519(_)) => Kind::Ed25519,
        Ok(PublicKey::Ecdsa { curve, .. }) => Kind::Ecdsa(curve),
        Ok(PublicKey::Rsa { .. }) => Kind::Rsa,
        // Too small to be read as a key, and yet one that signed.
        Err(_) if spki::rsa_bits(key_info).is_some() => Kind::Rsa,
        Err(_) => return None,
    };
    let oid = oid.to_string();
    if !is_for(&oid, kind)? {
        return Some(false);
    }
    let (_, _, algorithm) = algorithms().into_iter().find(|(known, of, _)| *known == oid && *of == kind)?;
    Some(UnparsedPublicKey::new(algorithm, bytes).verify(message, signature).is_ok())
}

impl TlsCertificate {
    /// What speaks against this one having been issued by another, by the two alone: whose signature it is, whether the other may sign at all, and for
    /// these names (RFC 5280 §6.1). A certificate that signed itself is its own issuer.
    pub fn faults_by_issuer(&self, issuer: &Self) -> Vec<CertificateFault> {
        let mut faults = Vec::new();
        let name = || issuer.subject().to_owned();
        // Where it cannot be told here, nothing is said.
        if self.is_signed_by(issuer) == Some(false) {
            faults.push(CertificateFault::NotSignedBy { issuer: name() });
        }
        if !issuer.is_authority() && self.der() != issuer.der() {
            faults.push(CertificateFault::IssuerIsNoAuthority { issuer: name() });
        }
        let outside = self.names().iter().filter(|name| !issuer.may_vouch_for(name)).cloned();
        let outside: Vec<CertificateName> = outside.collect();
        if !outside.is_empty() && self.der() != issuer.der() {
            faults.push(CertificateFault::OutsideConstraints { issuer: name(), names: outside });
        }
        faults
    }

    /// Whether its name constraints let it vouch for a name (RFC 5280 §4.2.1.10); those that cannot be read let it vouch for nobody.
    fn may_vouch_for(&self, name: &CertificateName) -> bool {
        let Ok(whole) = Certificate::from_der(self.der()) else { return false };
        let Ok(constraints) = whole.tbs_certificate().get_extension::<NameConstraints>() else {
            return false;
        };
        let Some((_, constraints)) = constraints else { return true };
        let excluded = constraints.excluded_subtrees.iter().flatten();
        if excluded.filter_map(|subtree| is_within(name, &subtree.base)).any(|within| within) {
            return false;
        }
        // Permitted subtrees of another kind of name say nothing about this one.
        let permitted = constraints.permitted_subtrees.iter().flatten();
        let mut speaks = permitted.filter_map(|subtree| is_within(name, &subtree.base)).peekable();
        speaks.peek().is_none() || speaks.any(|within| within)
    }

    /// Whether the key of another certificate signed this one; none where that cannot be told here.
    pub fn is_signed_by(&self, issuer: &Self) -> Option<bool> {
        let whole = Certificate::from_der(self.der()).ok()?;
        let message = whole.tbs_certificate().to_der().ok()?;
        is_signed_by(
            issuer.key_info(),
            whole.signature_algorithm().oid,
            &message,
            whole.signature().as_bytes()?,
        )
    }
}

/// Whether a name is within a subtree; none where the subtree is of another kind of name.
fn is_within(name: &CertificateName, base: &GeneralName) -> Option<bool> {
    match (name, base) {
        (CertificateName::Dns(name), GeneralName::DnsName(base)) => {
            let (name, base) = (name.to_ascii_lowercase(), base.as_str().to_ascii_lowercase());
            let base = base.trim_start_matches('.');
            Some(
                base.is_empty()
                    || name.strip_suffix(base).is_some_and(|rest| rest.is_empty() || rest.ends_with('.')),
            )
        }
        (CertificateName::Ip(address), GeneralName::IpAddress(base)) => {
            let own = match address {
                IpAddr::V4(v4) => v4.octets().to_vec(),
                IpAddr::V6(v6) => v6.octets().to_vec(),
            };
            let (network, mask) = base.as_bytes().split_at_checked(own.len())?;
            if mask.len() != own.len() {
                return None;
            }
            Some(own.iter().zip(network).zip(mask).all(|((own, network), mask)| own & mask == network & mask))
        }
        _ => None,
    }
}
