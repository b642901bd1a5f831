//! What changes in the trust store when machines are met, named, forgotten and shared.

use std::collections::BTreeMap;

use jiff::{Timestamp, ToSpan};
use lantern_keys::{Fingerprint, PublicKey};

use crate::trust_file::edit;
use crate::{
    BookError, Home, KnownCertificate, KnownKey, Presented, Revoked, TrustRecord, TrustStore, Verified,
};

/// Most addresses kept for a machine: the latest ones.
const MAX_ADDRESSES: usize = 16;
/// Most keys kept for a machine: servers have one of each of four or five kinds, and two of each while they change them.
pub(crate) const MAX_KEYS: usize = 16;

/// What an announcement of host keys changed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rotation {
    /// Keys that are trusted from now on.
    pub added: Vec<PublicKey>,
    /// Keys that the machine has no more.
    pub dropped: Vec<PublicKey>,
}

impl TrustStore {
    /// Remembers that `machine` proved to hold `key` at `place`, and that whatever it was known by before is void.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn accept(
        home: &Home,
        machine: &str,
        place: &str,
        key: &PublicKey,
        verified: Verified,
        now: Timestamp,
    ) -> Result<(), BookError> {
        Self::accept_all(home, machine, place, &[KnownKey::new(key.clone(), verified, now)])
    }

    /// The same with several keys. One that was known already keeps when it was first seen, and how it was verified if that was better.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn accept_all(home: &Home, machine: &str, place: &str, keys: &[KnownKey]) -> Result<(), BookError> {
        edit(home, |draft| {
            let mut record = draft.get(machine)?.unwrap_or_default();
            note_address(&mut record, place);
            let before = std::mem::take(&mut record.keys);
            record.keys = keys.iter().take(MAX_KEYS).map(|key| with_history(key, &before)).collect();
            draft.put(machine, record);
            Ok(())
        })
    }

    /// Remembers one more key of a machine, beside those that it has.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn add_key(home: &Home, machine: &str, place: &str, key: &KnownKey) -> Result<(), BookError> {
        edit(home, |draft| {
            let mut record = draft.get(machine)?.unwrap_or_default();
            note_address(&mut record, place);
            let new = with_history(key, &record.keys);
            record.keys.retain(|known| known.key != key.key);
            if record.keys.len() < MAX_KEYS {
                record.keys.push(new);
            }
            draft.put(machine, record);
            Ok(())
        })
    }

    /// Remembers a certificate of a machine in place of any other.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn accept_certificate(
        home: &Home,
        machine: &str,
        place: Option<&str>,
        certificate: KnownCertificate,
    ) -> Result<(), BookError> {
        edit(home, |draft| {
            let mut record = draft.get(machine)?.unwrap_or_default();
            place.into_iter().for_each(|place| note_address(&mut record, place));
            record.certificates = vec![certificate];
            draft.put(machine, record);
            Ok(())
        })
    }

    /// Believes this authority's word on certificates of a machine, from now on and for it alone; whether that is new.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn accept_authority(
        home: &Home,
        machine: &str,
        authority: KnownCertificate,
    ) -> Result<bool, BookError> {
        edit(home, |draft| {
            let mut record = draft.get(machine)?.unwrap_or_default();
            let is_new = record.authorities.iter().all(|known| known.der != authority.der);
            if is_new && record.authorities.len() >= MAX_KEYS {
                return Err(BookError::BadValue {
                    what: "the machine",
                    value: machine.to_owned(),
                    rule: "believes 16 authorities, which are the most; `lantern trust forget` begins anew",
                });
            }
            if is_new {
                record.authorities.push(authority);
                draft.put(machine, record);
            }
            Ok(is_new)
        })
    }

    /// Takes over what a trusted machine announced of its host keys, after it proved to hold `proven`: those come in, and what it did not
    /// announce goes. `current` is the key of the connection: without it in the announcement nothing is changed.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn take_over(
        home: &Home,
        machine: &str,
        current: &PublicKey,
        announced: &[PublicKey],
        proven: &[PublicKey],
        now: Timestamp,
    ) -> Result<Rotation, BookError> {
        edit(home, |draft| {
            let Some(mut record) = draft.get(machine)? else { return Ok(Rotation::default()) };
            let is_known =
                |record: &TrustRecord, key: &PublicKey| record.keys.iter().any(|known| known.key == *key);
            if !is_known(&record, current) || !announced.contains(current) {
                return Ok(Rotation::default());
            }
            let (kept, dropped) = std::mem::take(&mut record.keys)
                .into_iter()
                .partition(|known| announced.contains(&known.key));
            record.keys = kept;
            let mut rotation = Rotation::default();
            rotation.dropped.extend(dropped.into_iter().map(|known: KnownKey| known.key));
            for key in proven.iter().filter(|key| announced.contains(key)) {
                let is_good = draft.is_revoked(&key.fingerprint()).is_none();
                if is_good && !is_known(&record, key) && record.keys.len() < MAX_KEYS {
                    record.keys.push(KnownKey::new(key.clone(), Verified::Announced, now));
                    rotation.added.push(key.clone());
                }
            }
            if rotation != Rotation::default() {
                draft.put(machine, record);
            }
            Ok(rotation)
        })
    }

    /// Notes that a trusted key or certificate was seen again. Writes only when that tells something new: another address, or
    /// another day.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn note_seen(
        home: &Home,
        machine: &str,
        place: &str,
        presented: &Presented,
        now: Timestamp,
    ) -> Result<(), BookError> {
        let is_old = |seen: Timestamp| seen + 24.hours() < now;
        let news = |record: &TrustRecord| {
            record.is_known_by(presented)
                && (record.addresses.last().is_none_or(|last| last != place)
                    || match presented {
                        Presented::HostKey(key) => {
                            record.keys.iter().any(|known| known.key == *key && is_old(known.last_seen))
                        }
                        Presented::Certificate(certificate) => record
                            .certificates
                            .iter()
                            .any(|known| known.der == certificate.der() && is_old(known.last_seen)),
                    })
        };
        if !Self::load(home)?.get(machine)?.as_ref().is_some_and(news) {
            return Ok(());
        }
        edit(home, |draft| {
            let Some(mut record) = draft.get(machine)? else { return Ok(()) };
            note_address(&mut record, place);
            match presented {
                Presented::HostKey(key) => {
                    record
                        .keys
                        .iter_mut()
                        .filter(|known| known.key == *key)
                        .for_each(|known| known.last_seen = now);
                }
                Presented::Certificate(certificate) => {
                    let same = |known: &&mut KnownCertificate| known.der == certificate.der();
                    record.certificates.iter_mut().filter(same).for_each(|known| known.last_seen = now);
                }
            }
            draft.put(machine, record);
            Ok(())
        })
    }

    /// Forgets all that is known of a machine; whether there was anything.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn forget(home: &Home, machine: &str) -> Result<bool, BookError> {
        edit(home, |draft| Ok(draft.remove(machine)))
    }

    /// For each pair: what is known of the first is known of the second from now on; `keep`: of both. A record that the second has already stays.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn rename(home: &Home, pairs: &[(&str, &str)], keep: bool) -> Result<(), BookError> {
        let store = Self::load(home)?;
        if !pairs.iter().any(|(old, _)| store.has(old)) {
            return Ok(());
        }
        edit(home, |draft| {
            let mut records = Vec::new();
            for (old, new) in pairs {
                records.extend(draft.get(old)?.map(|record| (*new, record)));
            }
            if !keep {
                for (old, _) in pairs {
                    draft.remove(old);
                }
            }
            for (new, record) in records {
                if draft.get(new)?.is_none() {
                    draft.put(new, record);
                }
            }
            Ok(())
        })
    }

    /// Refuses a key or certificate from now on, whoever presents it; whether it was not refused before.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn revoke(home: &Home, revoked: Revoked) -> Result<bool, BookError> {
        edit(home, |draft| {
            let new = draft.is_revoked(&revoked.fingerprint).is_none();
            if new {
                draft.revoke(revoked);
            }
            Ok(new)
        })
    }

    /// Takes a revocation back; whether there was one.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn unrevoke(home: &Home, fingerprint: &Fingerprint) -> Result<bool, BookError> {
        edit(home, |draft| {
            let found = draft.is_revoked(fingerprint).is_some();
            if found {
                draft.unrevoke(*fingerprint);
            }
            Ok(found)
        })
    }

    /// Takes in records and revocations that come from elsewhere: keys are added to what is known, and a machine that is known by other
    /// keys is left as it is. What came in, and which machines were left.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn take_in(
        home: &Home,
        records: &BTreeMap<String, TrustRecord>,
        revoked: &[Revoked],
    ) -> Result<(Vec<String>, Vec<String>), BookError> {
        edit(home, |draft| {
            let (mut taken, mut left) = (Vec::new(), Vec::new());
            for (name, new) in records {
                let before = draft.get(name)?;
                let mut record = before.clone().unwrap_or_default();
                let shares = |record: &TrustRecord| {
                    record.keys.iter().any(|known| new.keys.iter().any(|other| other.key == known.key))
                };
                if !record.keys.is_empty() && !shares(&record) {
                    left.push(name.clone());
                    continue;
                }
                for key in &new.keys {
                    let better = with_history(key, &record.keys);
                    let has_room = record.keys.len() < MAX_KEYS;
                    match record.keys.iter_mut().find(|known| known.key == key.key) {
                        // What was compared here counts more than another's word.
                        Some(known) if known.verified.is_compared() => {}
                        Some(known) => *known = better,
                        None if has_room => record.keys.push(better),
                        None => {}
                    }
                }
                if record.certificates.is_empty() {
                    record.certificates.clone_from(&new.certificates);
                }
                if record.addresses.is_empty() {
                    new.addresses.iter().for_each(|address| note_address(&mut record, address));
                }
                if record != before.unwrap_or_default() {
                    taken.push(name.clone());
                    draft.put(name, record);
                }
            }
            for new in revoked {
                if draft.is_revoked(&new.fingerprint).is_none() {
                    draft.revoke(new.clone());
                }
            }
            Ok((taken, left))
        })
    }
}

/// A key with the history that it has: first seen when it was, and compared if it ever was.
pub(crate) fn with_history(key: &KnownKey, before: &[KnownKey]) -> KnownKey {
    match before.iter().find(|known| known.key == key.key) {
        None => key.clone(),
        Some(known) => {
            let keeps = known.verified.is_compared() && !key.verified.is_compared();
            let (verified, by) = if keeps { (known.verified, known.by) } else { (key.verified, key.by) };
            let first_seen = known.first_seen.min(key.first_seen);
            KnownKey {
                key: key.key.clone(),
                verified,
                by,
                first_seen,
                last_seen: known.last_seen.max(key.last_seen),
            }
        }
    }
}

pub(crate) fn note_address(record: &mut TrustRecord, place: &str) {
    record.addresses.retain(|address| address != place);
    record.addresses.push(place.to_owned());
    let surplus = record.addresses.len().saturating_sub(MAX_ADDRESSES);
    record.addresses.drain(..surplus);
}
