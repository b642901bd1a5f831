//! Certificates of TLS (RFC 5280): what one says, and everything that is wrong with it, at once. A chain is looked at by whoever shook hands.

use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;

use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};
use der::asn1::Utf8StringRef;
use der::oid::ObjectIdentifier;
use der::{Decode, Encode};
use x509_cert::Certificate;
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::ext::pkix::{BasicConstraints, ExtendedKeyUsage, SubjectAltName};

use crate::certificate_fault::{CertificateFault, CertificateName};
use crate::container::spki;
use crate::{Fingerprint, KeyError, PublicKey};

/// Most bytes of a certificate: usual ones have one or two thousand, and TLS allows more for a whole chain.
pub const MAX_LEN: usize = 64 * 1024;
/// Most names that are kept of one.
const MAX_NAMES: usize = 256;
/// `id-kp-serverAuth` and `anyExtendedKeyUsage` (RFC 5280 §4.2.1.12).
const FOR_SERVERS: [ObjectIdentifier; 2] =
    [ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.1"), ObjectIdentifier::new_unwrap("2.5.29.37.0")];
/// Signatures that can be forged: MD2, MD5 and SHA-1 with RSA, DSA and ECDSA.
const WEAK_SIGNATURES: [(ObjectIdentifier, &str); 5] = [
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.2"), "MD2"),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.4"), "MD5"),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.5"), "SHA-1"),
    (ObjectIdentifier::new_unwrap("1.2.840.10040.4.3"), "SHA-1"),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.1"), "SHA-1"),
];
/// Signatures by hashes that are longer than usual, in bits: RSA and ECDSA with SHA-384 and SHA-512.
const STRONGER_SIGNATURES: [(ObjectIdentifier, u32); 4] = [
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.12"), 384),
    (ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.13"), 512),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3"), 384),
    (ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4"), 512),
];
/// What a certificate may be used for (RFC 5280 §4.2.1.12), in words.
const USES: [(ObjectIdentifier, &str); 6] = [
    (ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.1"), "servers"),
    (ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.2"), "clients"),
    (ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.3"), "signing code"),
    (ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.4"), "mail"),
    (ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.8"), "time stamps"),
    (ObjectIdentifier::new_unwrap("2.5.29.37.0"), "everything"),
];
/// The principal name by which Windows knows a user (MS-WCCE §2.2.2.7.7.3).
const PRINCIPAL_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.311.20.2.3");
/// RSA keys below this are weak (NIST SP 800-131A), in bits.
const MIN_RSA: usize = 2048;

#[derive(Debug, PartialEq, Eq)]
struct Facts {
    der: Vec<u8>,
    subject: String,
    issuer: String,
    names: Vec<CertificateName>,
    principal: Option<String>,
    uses: Option<Vec<String>>,
    not_before: i64,
    not_after: i64,
    key: Option<PublicKey>,
    rsa_bits: Option<usize>,
    key_info: Vec<u8>,
    for_servers: bool,
    is_authority: bool,
    weak_signature: Option<&'static str>,
    signature_bits: Option<u32>,
}

/// A certificate as it came, and what it says. Nothing in it was verified. Clones are the same one.
#[derive(Clone, PartialEq, Eq)]
pub struct TlsCertificate(Arc<Facts>);

impl fmt::Debug for TlsCertificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("TlsCertificate").field(&self.0.subject).field(&self.fingerprint()).finish()
    }
}

impl TlsCertificate {
    /// Reads one in DER.
    ///
    /// # Errors
    /// It is none, or larger than [`MAX_LEN`].
    pub fn read(der: &[u8]) -> Result<Self, KeyError> {
        if der.len() > MAX_LEN {
            return Err(KeyError::TooCostly { what: "bytes", met: der.len() as u64, limit: MAX_LEN as u64 });
        }
        let broken = |_| KeyError::Malformed("it is no certificate of RFC 5280");
        let whole = Certificate::from_der(der).map_err(broken)?;
        let says = whole.tbs_certificate();
        let key_info = says.subject_public_key_info().to_der().map_err(broken)?;
        let alternatives = says.get_extension::<SubjectAltName>().map_err(broken)?;
        let principal = alternatives.iter().flat_map(|(_, names)| &names.0).find_map(principal);
        let names = alternatives.map(|(_, names)| names.0.iter().filter_map(name).take(MAX_NAMES).collect());
        let usage = says.get_extension::<ExtendedKeyUsage>().map_err(broken)?;
        let constraints = says.get_extension::<BasicConstraints>().map_err(broken)?;
        let algorithm = whole.signature_algorithm().oid;
        let seconds = |time: x509_cert::time::Time| {
            i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX)
        };
        Ok(Self(Arc::new(Facts {
            subject: says.subject().to_string(),
            issuer: says.issuer().to_string(),
            names: names.unwrap_or_default(),
            principal,
            not_before: seconds(says.validity().not_before),
            not_after: seconds(says.validity().not_after),
            key: spki::decode(&key_info).ok(),
            rsa_bits: spki::rsa_bits(&key_info),
            key_info,
            uses: usage.as_ref().map(|(_, usage)| usage.0.iter().take(MAX_NAMES).map(in_words).collect()),
            // Without the extension it is for everything.
            for_servers: usage.is_none_or(|(_, usage)| usage.0.iter().any(|oid| FOR_SERVERS.contains(oid))),
            signature_bits: STRONGER_SIGNATURES
                .iter()
                .find(|(oid, _)| *oid == algorithm)
                .map(|(_, bits)| *bits),
            is_authority: constraints.is_some_and(|(_, constraints)| constraints.ca),
            weak_signature: WEAK_SIGNATURES.iter().find(|(oid, _)| *oid == algorithm).map(|(_, hash)| *hash),
            der: der.to_vec(),
        })))
    }

    /// The bytes that were read.
    pub fn der(&self) -> &[u8] {
        &self.0.der
    }

    /// SHA-256 over the DER form.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of_blob(&self.0.der)
    }

    /// SHA-1 over the DER form in hexadecimal, as consoles show it. For recognising a certificate only.
    pub fn thumbprint(&self) -> String {
        let hash = digest(&SHA1_FOR_LEGACY_USE_ONLY, &self.0.der);
        hash.as_ref().iter().map(|byte| format!("{byte:02X}")).collect()
    }

    /// Whom it is for; empty where it does not say it in a way that counts.
    pub fn names(&self) -> &[CertificateName] {
        &self.0.names
    }

    /// The principal name of the user that it is of, by which Windows knows them: text from outside.
    pub fn principal(&self) -> Option<&str> {
        self.0.principal.as_deref()
    }

    /// What it is for, in words, or by the number of what has none; none where it does not say, and is for everything.
    pub fn uses(&self) -> Option<&[String]> {
        self.0.uses.as_deref()
    }

    /// The name of its holder: text from outside.
    pub fn subject(&self) -> &str {
        &self.0.subject
    }

    /// The name of its issuer: text from outside.
    pub fn issuer(&self) -> &str {
        &self.0.issuer
    }

    /// From when to when it is valid, in seconds since 1970.
    pub fn validity(&self) -> (i64, i64) {
        (self.0.not_before, self.0.not_after)
    }

    /// Whole days until it ends, at this time in seconds since 1970; less than 0 when it has.
    pub fn days_left(&self, now: i64) -> i64 {
        self.0.not_after.saturating_sub(now).div_euclid(24 * 3600)
    }

    /// Its key in DER.
    pub fn key_info(&self) -> &[u8] {
        &self.0.key_info
    }

    /// The bits of its signature's hash, where that is longer than 256.
    pub fn signature_bits(&self) -> Option<u32> {
        self.0.signature_bits
    }

    /// Whether its holder issued it.
    pub fn is_self_issued(&self) -> bool {
        self.0.subject == self.0.issuer
    }

    /// Whether it may issue others.
    pub fn is_authority(&self) -> bool {
        self.0.is_authority
    }

    /// What people call its key: "ECDSA P-256", "RSA 2048".
    pub fn describe(&self) -> String {
        match (&self.0.key, self.0.rsa_bits) {
            (Some(key), _) => key.describe(),
            // Smaller than any that is read as a key.
            (None, Some(bits)) => format!("RSA {bits}"),
            (None, None) => "a key of another kind".to_owned(),
        }
    }

    /// Its first name, else its subject: text from outside.
    pub fn holder(&self) -> String {
        self.0.names.first().map_or_else(|| self.0.subject.clone(), ToString::to_string)
    }

    /// Everything that is wrong with it by itself, for a server that was dialed by one of these names, at this time in seconds since 1970.
    pub fn faults(&self, wanted: &[&str], now: i64) -> Vec<CertificateFault> {
        let facts = &*self.0;
        let mut faults = Vec::new();
        if self.is_self_issued() {
            faults.push(CertificateFault::SelfSigned);
        }
        if now < facts.not_before {
            faults.push(CertificateFault::NotYet { from: facts.not_before });
        }
        if now > facts.not_after {
            faults.push(CertificateFault::Expired { since: facts.not_after });
        }
        if facts.names.is_empty() {
            faults.push(CertificateFault::NoName { subject: facts.subject.clone() });
        } else if !wanted.iter().any(|wanted| facts.names.iter().any(|name| name.is_for(wanted))) {
            let wanted = wanted.join(" or ");
            faults.push(CertificateFault::OtherName { wanted, names: facts.names.clone() });
        }
        if !facts.for_servers {
            faults.push(CertificateFault::NotForServers);
        }
        if facts.rsa_bits.is_some_and(|bits| bits < MIN_RSA) {
            faults.push(CertificateFault::WeakKey { key: self.describe() });
        }
        if let Some(hash) = facts.weak_signature {
            faults.push(CertificateFault::WeakSignature { hash });
        }
        faults
    }
}

fn principal(name: &GeneralName) -> Option<String> {
    let GeneralName::OtherName(other) = name else { return None };
    let text = (other.type_id == PRINCIPAL_NAME).then(|| Utf8StringRef::try_from(&other.value).ok())??;
    Some(text.as_str().to_owned())
}

fn in_words(use_of: &ObjectIdentifier) -> String {
    let word = USES.iter().find(|(oid, _)| oid == use_of).map(|(_, word)| (*word).to_owned());
    word.unwrap_or_else(|| use_of.to_string())
}

fn name(name: &GeneralName) -> Option<CertificateName> {
    Some(match name {
        GeneralName::DnsName(name) => CertificateName::Dns(name.to_string()),
        GeneralName::IpAddress(bytes) => CertificateName::Ip(match bytes.as_bytes() {
            four if four.len() == 4 => IpAddr::from(*four.first_chunk::<4>()?),
            six if six.len() == 16 => IpAddr::from(*six.first_chunk::<16>()?),
            _ => return None,
        }),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rcgen::{CertificateParams, ExtendedKeyUsagePurpose, KeyPair};

    const DAY: i64 = 24 * 3600;

    fn made(names: &[&str], change: impl FnOnce(&mut CertificateParams)) -> TlsCertificate {
        let mut params =
            CertificateParams::new(names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>()).unwrap();
        params.not_before = rcgen::date_time_ymd(2026, 1, 1);
        params.not_after = rcgen::date_time_ymd(2027, 1, 1);
        change(&mut params);
        TlsCertificate::read(params.self_signed(&KeyPair::generate().unwrap()).unwrap().der()).unwrap()
    }

    #[test]
    fn every_fault_is_told_at_once() {
        let certificate = made(&["tide-gauge.example"], |params| {
            params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        });
        let (from, until) = certificate.validity();
        let faults = certificate.faults(&["chart-room", "192.0.2.7"], until + DAY);
        let names = certificate.names().to_vec();
        assert_eq!(
            faults,
            [
                CertificateFault::SelfSigned,
                CertificateFault::Expired { since: until },
                CertificateFault::OtherName { wanted: "chart-room or 192.0.2.7".into(), names },
                CertificateFault::NotForServers,
            ]
        );
        assert!(
            certificate
                .faults(&["tide-gauge.example"], from - 1)
                .contains(&CertificateFault::NotYet { from })
        );
        assert_eq!((certificate.days_left(until - DAY), certificate.days_left(until + 1)), (1, -1));
        assert_eq!(certificate.describe(), "ECDSA P-256");
        assert_eq!(certificate.thumbprint().len(), 40);
    }

    #[test]
    fn names_are_matched_as_rfc_9525_has_it() {
        let matches = |names: &[&str], wanted: &str| {
            let certificate = made(names, |_| {});
            let (from, _) = certificate.validity();
            !certificate
                .faults(&[wanted], from)
                .iter()
                .any(|fault| matches!(fault, CertificateFault::OtherName { .. }))
        };
        assert!(matches(&["chart-room.example"], "CHART-ROOM.example."));
        assert!(matches(&["*.example"], "chart-room.example"));
        assert!(!matches(&["*.example"], "example"));
        assert!(!matches(&["*.example"], "a.b.example"));
        assert!(matches(&["192.0.2.7"], "192.0.2.7"));
        assert!(!matches(&["chart-room.example"], "192.0.2.7"));
        assert!(matches(&["2001:db8::7"], "2001:db8:0::7"));
        let nameless = made(&[], |_| {});
        assert!(matches!(
            nameless.faults(&["x"], nameless.validity().0)[..],
            [CertificateFault::SelfSigned, CertificateFault::NoName { .. }]
        ));
    }

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>, at: prop::sample::Index, byte: u8) {
            let _ = TlsCertificate::read(&bytes);
            let mut der = made(&["lamp-01.example", "192.0.2.1"], |_| {}).der().to_vec();
            let len = der.len();
            der[at.index(len)] = byte;
            if let Ok(certificate) = TlsCertificate::read(&der) {
                let _ = (certificate.faults(&["x"], 0), certificate.describe());
            }
        }
    }
}
