//! What is questionable about the host keys and certificates that are trusted.

use std::collections::BTreeMap;

use jiff::{Timestamp, ToSpan};
use lantern_book::{BookError, KnownBy, TrustRecord, TrustStore};
use lantern_keys::{CertificateFault, Fingerprint, PublicKey, TlsCertificate};

/// RSA keys below this are on their way out, in bits: what NIST SP 800-57 gives until 2030.
const SMALL_RSA_BITS: usize = 3072;

/// A certificate that ends within so many days is to be renewed.
const ENDS_SOON_DAYS: i64 = 30;

/// Something that was found, the worst kind first.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum FindingKind {
    /// The key was revoked, and is still trusted.
    Revoked {
        /// Why.
        reason: String,
    },
    /// Several machines have it: one of them can pass for the others.
    Shared,
    /// It is one machine that is known by several names: they were met at the same address.
    Twice {
        /// Where.
        address: String,
    },
    /// A certificate has ended, or will soon.
    Ends {
        /// When, in seconds since 1970.
        at: i64,
        /// Whether it has.
        has_ended: bool,
    },
    /// It is small.
    Weak {
        /// What it is.
        what: String,
    },
    /// Nobody has compared it with anything.
    Uncompared {
        /// How it came to be trusted.
        how: String,
    },
    /// It was not seen for long.
    Unseen {
        /// When it was last.
        since: Timestamp,
    },
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// The machines that it is about.
    pub machines: Vec<String>,
    /// The key or certificate.
    pub fingerprint: Fingerprint,
    /// Whether that is a certificate's.
    pub is_certificate: bool,
    /// What.
    pub kind: FindingKind,
}

/// Looks through a trust store; `unseen_for`, in days: after how many without being seen a key is questionable.
///
/// # Errors
/// A record cannot be read.
pub fn audit(store: &TrustStore, unseen_for: u16, now: Timestamp) -> Result<Vec<Finding>, BookError> {
    let records = store.records()?;
    let mut holders: BTreeMap<String, (Fingerprint, bool, Vec<String>)> = BTreeMap::new();
    for (name, record) in &records {
        for known in known_by(record) {
            let (fingerprint, is_certificate) = (known.fingerprint(), is_certificate(&known));
            let new = || (fingerprint, is_certificate, Vec::new());
            holders.entry(fingerprint.to_string()).or_insert_with(new).2.push(name.clone());
        }
    }
    let shared = holders.into_values().filter(|(.., machines)| machines.len() > 1);
    let mut findings: Vec<Finding> = shared
        .map(|(fingerprint, is_certificate, machines)| {
            let kind = match same_address(&records, &machines) {
                Some(address) => FindingKind::Twice { address },
                None => FindingKind::Shared,
            };
            Finding { machines, fingerprint, is_certificate, kind }
        })
        .collect();
    let oldest = now - (i64::from(unseen_for) * 24).hours();
    for (name, record) in &records {
        for known in known_by(record) {
            let fingerprint = known.fingerprint();
            let kinds = kinds(store, &known, oldest, now).into_iter();
            let is_certificate = is_certificate(&known);
            findings.extend(kinds.map(|kind| Finding {
                machines: vec![name.clone()],
                fingerprint,
                is_certificate,
                kind,
            }));
        }
    }
    findings.sort_by_key(|finding| rank(&finding.kind));
    Ok(findings)
}

fn is_certificate(known: &KnownBy) -> bool {
    matches!(known, KnownBy::Certificate(_))
}

/// All by which a machine is known.
fn known_by(record: &TrustRecord) -> impl Iterator<Item = KnownBy> {
    let keys = record.keys.iter().cloned().map(KnownBy::Key);
    keys.chain(record.certificates.iter().cloned().map(KnownBy::Certificate))
}

/// An address at which all of these were met.
fn same_address(records: &BTreeMap<String, TrustRecord>, machines: &[String]) -> Option<String> {
    let mut all = machines.iter().filter_map(|name| records.get(name)).map(|record| &record.addresses);
    let first = all.next()?;
    let others: Vec<_> = all.collect();
    first.iter().find(|address| others.iter().all(|other| other.contains(address))).cloned()
}

fn rank(kind: &FindingKind) -> u8 {
    match kind {
        FindingKind::Revoked { .. } => 0,
        FindingKind::Shared => 1,
        FindingKind::Ends { has_ended: true, .. } => 2,
        FindingKind::Weak { .. } => 3,
        FindingKind::Ends { .. } => 4,
        FindingKind::Uncompared { .. } => 5,
        FindingKind::Unseen { .. } => 6,
        FindingKind::Twice { .. } => 7,
    }
}

fn kinds(store: &TrustStore, known: &KnownBy, oldest: Timestamp, now: Timestamp) -> Vec<FindingKind> {
    let mut kinds = Vec::new();
    if let Some(revoked) = store.is_revoked(&known.fingerprint()) {
        kinds.push(FindingKind::Revoked { reason: revoked.reason.clone() });
    }
    let last_seen = match known {
        KnownBy::Key(known) => {
            if let PublicKey::Rsa { n, .. } = &known.key
                && n.len() * 8 < SMALL_RSA_BITS
            {
                kinds.push(FindingKind::Weak { what: known.key.describe() });
            }
            Some(known.last_seen)
        }
        KnownBy::Certificate(known) => {
            if let Ok(certificate) = TlsCertificate::read(&known.der) {
                kinds.extend(of_certificate(&certificate, now.as_second()));
            }
            Some(known.last_seen)
        }
        _ => None,
    };
    if !known.verified().is_compared() {
        kinds.push(FindingKind::Uncompared { how: known.verified().to_string() });
    }
    if let Some(since) = last_seen.filter(|seen| *seen < oldest) {
        kinds.push(FindingKind::Unseen { since });
    }
    kinds
}

fn of_certificate(certificate: &TlsCertificate, now: i64) -> Vec<FindingKind> {
    let mut kinds = Vec::new();
    // What it names says nothing about one that is known; the rest does.
    for fault in certificate.faults(&[], now) {
        match fault {
            CertificateFault::WeakKey { key } => kinds.push(FindingKind::Weak { what: key }),
            CertificateFault::WeakSignature { hash } => {
                kinds.push(FindingKind::Weak { what: format!("a signature by {hash}") });
            }
            _ => {}
        }
    }
    let at = certificate.validity().1;
    if certificate.days_left(now) < ENDS_SOON_DAYS {
        kinds.push(FindingKind::Ends { at, has_ended: now > at });
    }
    kinds
}
