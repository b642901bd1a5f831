//! Keeping what was decided about a machine's keys while the store was not locked: a person may have thought for minutes, and another program may
//! have learned something in between. What was decided holds only as long as what it was decided on.

use lantern_keys::PublicKey;

use crate::trust_changes::{MAX_KEYS, note_address, with_history};
use crate::trust_file::edit;
use crate::{BookError, Home, KnownKey, Revoked, TrustStore};

/// What became of a decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kept {
    /// It holds.
    Yes,
    /// One of the keys has been revoked meanwhile.
    Revoked(Revoked),
    /// The machine is known by these keys meanwhile, and not by all of those that were decided about.
    Otherwise(Vec<KnownKey>),
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
                return Ok(Kept::Otherwise(record.keys));
            }
            note_address(&mut record, place);
            draft.put(machine, record);
            Ok(Kept::Yes)
        })
    }
}
