//! `trust.toml`: what each machine proved to be.

use std::collections::BTreeMap;

use jiff::{Timestamp, ToSpan};
use lantern_keys::{PublicKey, public_line};
use serde::{Deserialize, Serialize};

use crate::home::{read_toml, write_atomically};
use crate::{BookError, Home, KnownKey, TrustRecord, TrustVerdict, Verified};

const FILE: &str = "trust.toml";
const HEADER: &str =
    "# What each machine proved to be. Written by lantern; change it with `lantern trust`.\n\n";
/// Most addresses kept for a machine: the latest ones.
const MAX_ADDRESSES: usize = 16;

/// The trust store of one home.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TrustStore {
    records: BTreeMap<String, TrustRecord>,
}

#[derive(Serialize, Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct FileForm {
    #[serde(default)]
    machines: BTreeMap<String, RecordForm>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordForm {
    #[serde(default)]
    addresses: Vec<String>,
    #[serde(default)]
    keys: Vec<KeyForm>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct KeyForm {
    key: String,
    verified: Verified,
    first_seen: Timestamp,
    last_seen: Timestamp,
}

impl TrustStore {
    /// Reads the store; a missing file is an empty one.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn load(home: &Home) -> Result<Self, BookError> {
        let path = home.file(FILE);
        let (form, text): (FileForm, String) = read_toml(&path)?;
        let mut records = BTreeMap::new();
        for (name, record) in form.machines {
            let mut keys = Vec::new();
            for key in record.keys {
                let (public, _) = public_line::parse(&key.key).map_err(|error| {
                    BookError::syntax(&path, &text, text.find(&key.key), format!("a key of {name}: {error}"))
                })?;
                let KeyForm { verified, first_seen, last_seen, .. } = key;
                keys.push(KnownKey { key: public, verified, first_seen, last_seen });
            }
            records.insert(name, TrustRecord { keys, addresses: record.addresses });
        }
        Ok(Self { records })
    }

    /// All records by machine.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &TrustRecord)> {
        self.records.iter().map(|(name, record)| (name.as_str(), record))
    }

    /// The record of a machine.
    pub fn get(&self, machine: &str) -> Option<&TrustRecord> {
        self.records.get(machine)
    }

    /// The machine under which an address is known, for one-offs.
    pub fn machine_at(&self, place: &str) -> Option<&str> {
        let met = |record: &TrustRecord| record.addresses.last().is_some_and(|address| address == place);
        self.iter().find(|(_, record)| met(record)).map(|(name, _)| name)
    }

    /// What it means that `machine`, reached at `place`, presents `key`.
    pub fn assess(&self, machine: &str, place: &str, key: &PublicKey) -> TrustVerdict {
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
        Self::edit(home, |store| {
            let record = store.records.entry(machine.to_owned()).or_default();
            note_address(record, place);
            record.keys = vec![KnownKey { key: key.clone(), verified, first_seen: now, last_seen: now }];
            (true, ())
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

    /// A change under the lock; written when the first half of its outcome says so.
    fn edit<T>(home: &Home, change: impl FnOnce(&mut Self) -> (bool, T)) -> Result<T, BookError> {
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
        let machines = self.records.iter().map(|(name, record)| {
            let keys = record.keys.iter().map(|known| KeyForm {
                key: public_line::format(&known.key, ""),
                verified: known.verified,
                first_seen: known.first_seen,
                last_seen: known.last_seen,
            });
            (name.clone(), RecordForm { addresses: record.addresses.clone(), keys: keys.collect() })
        });
        let form = FileForm { machines: machines.collect() };
        let text =
            toml::to_string(&form).map_err(|error| BookError::syntax(&path, "", None, error.to_string()))?;
        write_atomically(&path, format!("{HEADER}{text}").as_bytes(), 0o644)
    }
}

fn note_address(record: &mut TrustRecord, place: &str) {
    record.addresses.retain(|address| address != place);
    record.addresses.push(place.to_owned());
    let surplus = record.addresses.len().saturating_sub(MAX_ADDRESSES);
    record.addresses.drain(..surplus);
}
