//! `trust.toml`: what each machine proved to be.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use base64ct::{Base64, Encoding};
use lantern_keys::{Fingerprint, PublicKey, public_line};

use crate::trust_index::TrustIndex;
use crate::trust_ledger::{Ledger, Shared};
use crate::trust_seen::Seen;
use crate::{BookError, KnownBy, Presented, Revoked, TrustRecord, TrustVerdict};

/// Most machines named that share a key or an address with another: a whole fleet may, and a person reads a few.
const MAX_OTHERS: usize = 8;

/// The trust store of one home as it was when it was read. Records are parsed when they are asked for, so that what is wrong with one is told of
/// that one.
#[derive(Debug, Clone, Default)]
pub struct TrustStore {
    pub(crate) path: PathBuf,
    pub(crate) ledger: Ledger,
    pub(crate) seen: Option<Seen>,
    /// Made when it is asked for, and shared by all states of one file.
    pub(crate) index: Arc<Mutex<TrustIndex>>,
}

impl TrustStore {
    /// An empty one.
    pub(crate) fn at(path: PathBuf) -> Self {
        Self { path, ..Self::default() }
    }

    /// The machines of which anything is known, by name.
    pub fn machines(&self) -> Vec<&str> {
        self.ledger.machines()
    }

    /// All records by machine.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn records(&self) -> Result<BTreeMap<String, TrustRecord>, BookError> {
        let record = |name: &str| Ok((name.to_owned(), self.get(name)?.unwrap_or_default()));
        self.ledger.machines().into_iter().map(record).collect()
    }

    /// The record of a machine.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn get(&self, machine: &str) -> Result<Option<TrustRecord>, BookError> {
        self.ledger.get(&self.path, machine)
    }

    /// Whether there is a record of a machine.
    pub fn has(&self, machine: &str) -> bool {
        self.ledger.has(machine)
    }

    /// All keys and certificates that must not be trusted.
    pub fn revoked(&self) -> &[Revoked] {
        &self.ledger.revoked
    }

    /// Whether this key or certificate must not be trusted.
    pub fn is_revoked(&self, fingerprint: &Fingerprint) -> Option<&Revoked> {
        self.revoked().iter().find(|revoked| revoked.fingerprint == *fingerprint)
    }

    /// The machine under which an address is known, for one-offs.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn machine_at(&self, place: &str) -> Result<Option<String>, BookError> {
        let met = |record: &TrustRecord| record.addresses.last().is_some_and(|address| address == place);
        Ok(self.holders(Shared::Address(place), 1, |_, record| met(record))?.pop())
    }

    /// The keys that a machine may present without a question.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn good_keys(&self, machine: &str) -> Result<Vec<PublicKey>, BookError> {
        let keys = self.keys(machine)?.into_iter();
        Ok(keys.filter(|key| self.is_revoked(&key.fingerprint()).is_none()).collect())
    }

    /// The keys by which a machine is known, good or not.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn keys(&self, machine: &str) -> Result<Vec<PublicKey>, BookError> {
        let keys = self.get(machine)?.map(|record| record.keys).unwrap_or_default();
        Ok(keys.into_iter().map(|known| known.key).collect())
    }

    /// What it means that `machine`, reached at `place`, presents this. What it is known by of the other kind, over the other protocol, says nothing
    /// about it.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn assess(
        &self,
        machine: &str,
        place: &str,
        presented: &Presented,
    ) -> Result<TrustVerdict, BookError> {
        if let Some(revoked) = self.is_revoked(&presented.fingerprint()) {
            return Ok(TrustVerdict::Revoked(revoked.clone()));
        }
        let has_it = |record: &TrustRecord| record.is_known_by(presented);
        let was_here = |record: &TrustRecord| record.addresses.iter().any(|address| address == place);
        let others_with_it = || {
            let (line, base64);
            let shared = match presented {
                Presented::HostKey(key) => {
                    line = public_line::format(key, "");
                    Shared::Key(line.split(' ').nth(1).unwrap_or_default())
                }
                Presented::Certificate(certificate) => {
                    base64 = Base64::encode_string(certificate.der());
                    Shared::Certificate(&base64)
                }
            };
            self.holders(shared, MAX_OTHERS, |name, record| name != machine && has_it(record))
        };
        let known_by = |record: &TrustRecord| match presented {
            Presented::HostKey(_) => record.keys.iter().cloned().map(KnownBy::Key).collect::<Vec<_>>(),
            Presented::Certificate(_) => {
                record.certificates.iter().cloned().map(KnownBy::Certificate).collect()
            }
        };
        Ok(match self.get(machine)?.filter(|record| !known_by(record).is_empty()) {
            Some(record) if has_it(&record) && was_here(&record) => TrustVerdict::Known,
            Some(record) if has_it(&record) => TrustVerdict::Moved { from: record.addresses },
            Some(record) => TrustVerdict::Changed { known: known_by(&record), belongs_to: others_with_it()? },
            None => TrustVerdict::FirstContact {
                same_key: others_with_it()?,
                same_address: self.holders(Shared::Address(place), MAX_OTHERS, |name, record| {
                    name != machine && was_here(record) && !has_it(record)
                })?,
            },
        })
    }

    /// The first machines that have something, by name.
    fn holders(
        &self,
        what: Shared<'_>,
        most: usize,
        is_wanted: impl Fn(&str, &TrustRecord) -> bool,
    ) -> Result<Vec<String>, BookError> {
        let machines = self.index.lock().unwrap_or_else(PoisonError::into_inner).machines(&self.ledger, what);
        let mut found = Vec::new();
        for name in machines {
            if found.len() == most {
                break;
            }
            if self.get(&name)?.is_some_and(|record| is_wanted(&name, &record)) {
                found.push(name.as_ref().to_owned());
            }
        }
        Ok(found)
    }
}
