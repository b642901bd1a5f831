//! `trust.toml`: what each machine proved to be.

use std::collections::BTreeMap;

use jiff::{Timestamp, ToSpan};
use lantern_keys::{Fingerprint, PublicKey};

use crate::home::{read_toml, write_atomically};
use crate::trust_form::TrustForm;
use crate::{BookError, Home, KnownCertificate, KnownKey, Revoked, TrustRecord, TrustVerdict, Verified};

const FILE: &str = "trust.toml";
const HEADER: &str =
    "# What each machine proved to be. Written by lantern; change it with `lantern trust`.\n\n";
/// Most addresses kept for a machine: the latest ones.
const MAX_ADDRESSES: usize = 16;
/// Most keys kept for a machine: servers have one of each of four or five kinds, and two of each while they change them.
pub(crate) const MAX_KEYS: usize = 16;

/// The trust store of one home.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TrustStore {
    pub(crate) records: BTreeMap<String, TrustRecord>,
    pub(crate) revoked: Vec<Revoked>,
}

/// What an announcement of host keys changed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rotation {
    /// Keys that are trusted from now on.
    pub added: Vec<PublicKey>,
    /// Keys that the machine has no more.
    pub dropped: Vec<PublicKey>,
}

impl TrustStore {
    /// Reads the store; a missing file is an empty one.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn load(home: &Home) -> Result<Self, BookError> {
        let path = home.file(FILE);
        let (form, text): (TrustForm, String) = read_toml(&path)?;
        let (records, revoked) = form.read(&path, &text)?;
        Ok(Self { records, revoked })
    }

    /// All records by machine.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &TrustRecord)> {
        self.records.iter().map(|(name, record)| (name.as_str(), record))
    }

    /// The record of a machine.
    pub fn get(&self, machine: &str) -> Option<&TrustRecord> {
        self.records.get(machine)
    }

    /// All keys and certificates that must not be trusted.
    pub fn revoked(&self) -> &[Revoked] {
        &self.revoked
    }

    /// Whether this key or certificate must not be trusted.
    pub fn is_revoked(&self, fingerprint: &Fingerprint) -> Option<&Revoked> {
        self.revoked.iter().find(|revoked| revoked.fingerprint == *fingerprint)
    }

    /// The machine under which an address is known, for one-offs.
    pub fn machine_at(&self, place: &str) -> Option<&str> {
        let met = |record: &TrustRecord| record.addresses.last().is_some_and(|address| address == place);
        self.iter().find(|(_, record)| met(record)).map(|(name, _)| name)
    }

    /// The keys that a machine may present without a question.
    pub fn good_keys(&self, machine: &str) -> Vec<PublicKey> {
        let keys =
            self.get(machine).into_iter().flat_map(|record| &record.keys).map(|known| known.key.clone());
        keys.filter(|key| self.is_revoked(&key.fingerprint()).is_none()).collect()
    }

    /// What it means that `machine`, reached at `place`, presents `key`.
    pub fn assess(&self, machine: &str, place: &str, key: &PublicKey) -> TrustVerdict {
        if let Some(revoked) = self.is_revoked(&key.fingerprint()) {
            return TrustVerdict::Revoked(revoked.clone());
        }
        let others = |wanted: &dyn Fn(&TrustRecord) -> bool| -> Vec<String> {
            self.iter()
                .filter(|(name, record)| *name != machine && wanted(record))
                .map(|(name, _)| name.to_owned())
                .collect()
        };
        let has_key = |record: &TrustRecord| record.keys.iter().any(|known| known.key == *key);
        let was_here = |record: &TrustRecord| record.addresses.iter().any(|address| address == place);
        match self.records.get(machine).filter(|record| !record.keys.is_empty()) {
            Some(record) if has_key(record) && was_here(record) => TrustVerdict::Known,
            Some(record) if has_key(record) => TrustVerdict::Moved { from: record.addresses.clone() },
            Some(record) => {
                TrustVerdict::Changed { known: record.keys.clone(), belongs_to: others(&has_key) }
            }
            None => TrustVerdict::FirstContact {
                same_key: others(&has_key),
                same_address: others(&|record| was_here(record) && !has_key(record)),
            },
        }
    }

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
        Self::edit(home, |store| {
            let record = store.records.entry(machine.to_owned()).or_default();
            note_address(record, place);
            let before = std::mem::take(&mut record.keys);
            record.keys = keys.iter().take(MAX_KEYS).map(|key| with_history(key, &before)).collect();
            (true, ())
        })
    }

    /// Remembers one more key of a machine, beside those that it has.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn add_key(home: &Home, machine: &str, place: &str, key: &KnownKey) -> Result<(), BookError> {
        Self::edit(home, |store| {
            let record = store.records.entry(machine.to_owned()).or_default();
            note_address(record, place);
            let new = with_history(key, &record.keys);
            record.keys.retain(|known| known.key != key.key);
            if record.keys.len() < MAX_KEYS {
                record.keys.push(new);
            }
            (true, ())
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
        Self::edit(home, |store| {
            let record = store.records.entry(machine.to_owned()).or_default();
            place.into_iter().for_each(|place| note_address(record, place));
            record.certificates = vec![certificate];
            (true, ())
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
        Self::edit(home, |store| {
            let revoked = store.revoked.clone();
            let is_revoked = |key: &PublicKey| revoked.iter().any(|r| r.fingerprint == key.fingerprint());
            let Some(record) = store.records.get_mut(machine) else { return (false, Rotation::default()) };
            let is_known =
                |record: &TrustRecord, key: &PublicKey| record.keys.iter().any(|known| known.key == *key);
            if !is_known(record, current) || !announced.contains(current) {
                return (false, Rotation::default());
            }
            let (kept, dropped) = std::mem::take(&mut record.keys)
                .into_iter()
                .partition(|known| announced.contains(&known.key));
            record.keys = kept;
            let mut rotation = Rotation::default();
            rotation.dropped.extend(dropped.into_iter().map(|known: KnownKey| known.key));
            for key in proven.iter().filter(|key| announced.contains(key) && !is_revoked(key)) {
                if !is_known(record, key) && record.keys.len() < MAX_KEYS {
                    record.keys.push(KnownKey::new(key.clone(), Verified::Announced, now));
                    rotation.added.push(key.clone());
                }
            }
            (rotation != Rotation::default(), rotation)
        })
    }

    /// Notes that a trusted key was seen again. Writes only when that tells something new: another address, or
    /// another day.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn note_seen(
        home: &Home,
        machine: &str,
        place: &str,
        key: &PublicKey,
        now: Timestamp,
    ) -> Result<(), BookError> {
        let news = |record: &TrustRecord| {
            record.addresses.last().is_none_or(|last| last != place)
                || record.keys.iter().any(|known| known.key == *key && known.last_seen + 24.hours() < now)
        };
        if !Self::load(home)?.records.get(machine).is_some_and(news) {
            return Ok(());
        }
        Self::edit(home, |store| {
            let Some(record) = store.records.get_mut(machine) else { return (false, ()) };
            note_address(record, place);
            for known in record.keys.iter_mut().filter(|known| known.key == *key) {
                known.last_seen = now;
            }
            (true, ())
        })
    }

    /// Forgets all that is known of a machine; whether there was anything.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn forget(home: &Home, machine: &str) -> Result<bool, BookError> {
        Self::edit(home, |store| {
            let known = store.records.remove(machine).is_some();
            (known, known)
        })
    }

    /// What is known of `old` is known of `new` from now on; `keep`: of both. A record that `new` has already stays.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn rename(home: &Home, old: &str, new: &str, keep: bool) -> Result<(), BookError> {
        if !Self::load(home)?.records.contains_key(old) {
            return Ok(());
        }
        Self::edit(home, |store| {
            let record = if keep { store.records.get(old).cloned() } else { store.records.remove(old) };
            if let Some(record) = record {
                store.records.entry(new.to_owned()).or_insert(record);
            }
            (true, ())
        })
    }

    /// Refuses a key or certificate from now on, whoever presents it; whether it was not refused before.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn revoke(home: &Home, revoked: Revoked) -> Result<bool, BookError> {
        Self::edit(home, |store| {
            let new = store.is_revoked(&revoked.fingerprint).is_none();
            if new {
                store.revoked.push(revoked);
            }
            (new, new)
        })
    }

    /// Takes a revocation back; whether there was one.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn unrevoke(home: &Home, fingerprint: &Fingerprint) -> Result<bool, BookError> {
        Self::edit(home, |store| {
            let before = store.revoked.len();
            store.revoked.retain(|revoked| revoked.fingerprint != *fingerprint);
            let found = store.revoked.len() < before;
            (found, found)
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
        Self::edit(home, |store| {
            let (mut taken, mut left) = (Vec::new(), Vec::new());
            for (name, new) in records {
                let record = store.records.entry(name.clone()).or_default();
                let shares = |record: &TrustRecord| {
                    record.keys.iter().any(|known| new.keys.iter().any(|other| other.key == known.key))
                };
                if !record.keys.is_empty() && !shares(record) {
                    left.push(name.clone());
                    continue;
                }
                let before = record.clone();
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
                    new.addresses.iter().for_each(|address| note_address(record, address));
                }
                if *record != before {
                    taken.push(name.clone());
                }
            }
            let news: Vec<Revoked> =
                revoked.iter().filter(|new| store.is_revoked(&new.fingerprint).is_none()).cloned().collect();
            let changed = !taken.is_empty() || !news.is_empty();
            store.revoked.extend(news);
            (changed, (taken, left))
        })
    }

    /// A change under the lock; written when the first half of its outcome says so.
    pub(crate) fn edit<T>(home: &Home, change: impl FnOnce(&mut Self) -> (bool, T)) -> Result<T, BookError> {
        let _lock = home.lock()?;
        let mut store = Self::load(home)?;
        let (changed, outcome) = change(&mut store);
        if changed {
            store.save(home)?;
        }
        Ok(outcome)
    }

    fn save(&self, home: &Home) -> Result<(), BookError> {
        let path = home.file(FILE);
        let text = TrustForm::of(self.iter(), &self.revoked).to_text(&path)?;
        write_atomically(&path, format!("{HEADER}{text}").as_bytes(), 0o644)
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
