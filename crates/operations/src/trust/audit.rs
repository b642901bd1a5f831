//! What is questionable about the host keys that are trusted.

use std::collections::BTreeMap;

use jiff::{Timestamp, ToSpan};
use lantern_book::{BookError, KnownKey, TrustRecord, TrustStore};
use lantern_keys::{Fingerprint, PublicKey};

/// RSA keys below this are on their way out, in bits: what NIST SP 800-57 gives until 2030.
const SMALL_RSA_BITS: usize = 3072;

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
    /// The key.
    pub fingerprint: Fingerprint,
    /// What.
    pub kind: FindingKind,
}

/// Looks through a trust store; `unseen_for`, in days: after how many without being seen a key is questionable.
///
/// # Errors
/// A record cannot be read.
pub fn audit(store: &TrustStore, unseen_for: u16, now: Timestamp) -> Result<Vec<Finding>, BookError> {
    let records = store.records()?;
    let mut holders: BTreeMap<String, (Fingerprint, Vec<String>)> = BTreeMap::new();
    for (name, record) in &records {
        for known in &record.keys {
            let fingerprint = known.key.fingerprint();
            let holder = holders.entry(fingerprint.to_string()).or_insert_with(|| (fingerprint, Vec::new()));
            holder.1.push(name.clone());
        }
    }
    let shared = holders.into_values().filter(|(_, machines)| machines.len() > 1);
    let mut findings: Vec<Finding> = shared
        .map(|(fingerprint, machines)| {
            let kind = match same_address(&records, &machines) {
                Some(address) => FindingKind::Twice { address },
                None => FindingKind::Shared,
            };
            Finding { machines, fingerprint, kind }
        })
        .collect();
    let oldest = now - (i64::from(unseen_for) * 24).hours();
    for (name, record) in &records {
        for known in &record.keys {
            let fingerprint = known.key.fingerprint();
            let kinds = kinds(store, known, oldest).into_iter();
            findings.extend(kinds.map(|kind| Finding { machines: vec![name.clone()], fingerprint, kind }));
        }
    }
    findings.sort_by_key(|finding| rank(&finding.kind));
    Ok(findings)
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
        FindingKind::Weak { .. } => 2,
        FindingKind::Uncompared { .. } => 3,
        FindingKind::Unseen { .. } => 4,
        FindingKind::Twice { .. } => 5,
    }
}

fn kinds(store: &TrustStore, known: &KnownKey, oldest: Timestamp) -> Vec<FindingKind> {
    let mut kinds = Vec::new();
    if let Some(revoked) = store.is_revoked(&known.key.fingerprint()) {
        kinds.push(FindingKind::Revoked { reason: revoked.reason.clone() });
    }
    if let PublicKey::Rsa { n, .. } = &known.key
        && n.len() * 8 < SMALL_RSA_BITS
    {
        kinds.push(FindingKind::Weak { what: known.key.describe() });
    }
    if !known.verified.is_compared() {
        kinds.push(FindingKind::Uncompared { how: known.verified.to_string() });
    }
    if known.last_seen < oldest {
        kinds.push(FindingKind::Unseen { since: known.last_seen });
    }
    kinds
}
