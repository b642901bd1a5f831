//! Whether a key made a signature that stands in DER: of a certificate, or of a request for one.

use std::net::IpAddr;

use der::asn1::{ObjectIdentifier, UintRef};
use der::{Decode, Encode, Sequence};
use x509_cert::Certificate;
use x509_cert::ext::pkix::NameConstraints;
use x509_cert::ext::pkix::name::GeneralName;

use crate::wire::Writer;
use crate::{
    CertificateFault, CertificateName, Curve, PublicKey, Signature, SignatureAlgorithm, TlsCertificate,
};

/// The two numbers of ECDSA (RFC 3279 §2.2.3).
#[derive(Sequence)]
pub(crate) struct EcdsaSigValue<'a> {
    pub(crate) r: UintRef<'a>,
    pub(crate) s: UintRef<'a>,
}

/// Algorithms that we verify, by kind of key: RFC 8410, RFC 5758, RFC 8017.
const ALGORITHMS: [(ObjectIdentifier, SignatureAlgorithm); 6] = [
    (ObjectIdentifier::new_unwrap("1.3.101.112"), SignatureAlgorithm::Ed25519),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2"), SignatureAlgorithm::Ecdsa(Curve::P256)),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3"), SignatureAlgorithm::Ecdsa(Curve::P384)),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4"), SignatureAlgorithm::Ecdsa(Curve::P521)),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11"), SignatureAlgorithm::RsaSha256),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.13"), SignatureAlgorithm::RsaSha512),
];

/// Whether this key made this signature over this message; none where it is by an algorithm that we don't handle.
pub(crate) fn is_signed_by(
    key: &PublicKey,
    oid: ObjectIdentifier,
    message: &[u8],
    signature: &[u8],
) -> Option<bool> {
    let (_, algorithm) = ALGORITHMS.into_iter().find(|(known, _)| *known == oid)?;
    let blob = match (key, algorithm) {
        (PublicKey::Ed25519(_), SignatureAlgorithm::Ed25519)
        | (PublicKey::Rsa { .. }, SignatureAlgorithm::RsaSha256 | SignatureAlgorithm::RsaSha512) => {
            signature.to_vec()
        }
        (PublicKey::Ecdsa { curve, .. }, SignatureAlgorithm::Ecdsa(_)) => {
            // A hash of another length than the curve's is allowed, rare, and not ours to compute.
            if SignatureAlgorithm::Ecdsa(*curve) != algorithm {
                return None;
            }
            let Ok(value) = EcdsaSigValue::from_der(signature) else { return Some(false) };
            let mut blob = Vec::with_capacity(signature.len());
            blob.put_mpint(value.r.as_bytes());
            blob.put_mpint(value.s.as_bytes());
            blob
        }
        _ => return Some(false),
    };
    Some(key.verify(message, &Signature { algorithm, blob }).is_ok())
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
        let key = crate::container::spki::decode(issuer.key_info()).ok()?;
        is_signed_by(&key, whole.signature_algorithm().oid, &message, whole.signature().as_bytes()?)
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
