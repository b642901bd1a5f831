//! Keeping what was decided about a machine's keys while the store was not locked: a person may have thought for minutes, and another program may
//! have learned something in between. What was decided holds only as long as what it was decided on.

use lantern_keys::PublicKey;

use crate::trust_changes::{MAX_KEYS, note_address, with_history};
use crate::trust_file::edit;
use crate::{BookError, Home, KnownBy, KnownCertificate, KnownKey, Revoked, TrustStore};

/// What became of a decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kept {
    /// It holds.
    Yes,
    /// One of the keys has been revoked meanwhile.
    Revoked(Revoked),
    /// The machine is known by these meanwhile, and not by all of those that were decided about.
    Otherwise(Vec<KnownBy>),
}

impl TrustStore {
    /// Remembers that `machine` proved to hold these keys at `place`, as it was decided when it was known by the keys `before`. Decided anew under
    /// the lock: nothing is kept that was revoked, and a record that somebody else made meanwhile is added to where it has the same keys, and
    /// else left as it is.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn keep_decided(
        home: &Home,
        machine: &str,
        place: &str,
        before: &[PublicKey],
        decided: &[KnownKey],
    ) -> Result<Kept, BookError> {
        edit(home, |draft| {
            let revoked = decided.iter().find_map(|known| draft.is_revoked(&known.key.fingerprint()));
            if let Some(revoked) = revoked {
                return Ok(Kept::Revoked(revoked.clone()));
            }
            let mut record = draft.get(machine)?.unwrap_or_default();
            let has = |key: &PublicKey| record.keys.iter().any(|known| known.key == *key);
            let as_before = record.keys.len() == before.len() && before.iter().all(has);
            if as_before {
                let known = std::mem::take(&mut record.keys);
                record.keys = decided.iter().take(MAX_KEYS).map(|key| with_history(key, &known)).collect();
            } else if decided.iter().all(|new| record.keys.iter().any(|known| known.key == new.key)) {
                for new in decided {
                    let better = with_history(new, &record.keys);
                    record.keys.iter_mut().filter(|known| known.key == new.key).for_each(|known| {
                        known.clone_from(&better);
                    });
                }
            } else {
                return Ok(Kept::Otherwise(record.keys.into_iter().map(KnownBy::Key).collect()));
            }
            note_address(&mut record, place);
            draft.put(machine, record);
            Ok(Kept::Yes)
        })
    }

    /// The same of a certificate, in place of those that it was known by before, by their DER forms.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn keep_decided_certificate(
        home: &Home,
        machine: &str,
        place: &str,
        before: &[Vec<u8>],
        decided: &KnownCertificate,
    ) -> Result<Kept, BookError> {
        edit(home, |draft| {
            if let Some(revoked) = draft.is_revoked(&decided.fingerprint()) {
                return Ok(Kept::Revoked(revoked.clone()));
            }
            let mut record = draft.get(machine)?.unwrap_or_default();
            let has = |der: &Vec<u8>| record.certificates.iter().any(|known| known.der == *der);
            let as_before = record.certificates.len() == before.len() && before.iter().all(has);
            if !as_before && !has(&decided.der) {
                return Ok(Kept::Otherwise(
                    record.certificates.into_iter().map(KnownBy::Certificate).collect(),
                ));
            }
            let mut decided = decided.clone();
            if let Some(known) = record.certificates.iter().find(|known| known.der == decided.der) {
                decided.first_seen = known.first_seen.min(decided.first_seen);
                if known.verified.is_compared() && !decided.verified.is_compared() {
                    decided.verified = known.verified;
                }
            }
            record.certificates = vec![decided];
            note_address(&mut record, place);
            draft.put(machine, record);
            Ok(Kept::Yes)
        })
    }
}
