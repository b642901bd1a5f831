//! A change of the trust store while it is being made.

use std::collections::BTreeMap;

use lantern_keys::Fingerprint;

use crate::trust_form::LedgerForm;
use crate::trust_ledger::RULE;
use crate::{BookError, Revoked, TrustRecord, TrustStore};

/// What the store is, and what it is to be.
#[derive(Debug)]
pub(crate) struct TrustDraft {
    store: TrustStore,
    /// Records that are new or gone.
    changed: BTreeMap<String, Option<TrustRecord>>,
    revoked: Vec<Revoked>,
    /// Revocations that are taken back.
    unrevoked: Vec<Fingerprint>,
}

impl TrustDraft {
    pub(crate) fn of(store: TrustStore) -> Self {
        Self { store, changed: BTreeMap::new(), revoked: Vec::new(), unrevoked: Vec::new() }
    }

    pub(crate) fn store(&self) -> &TrustStore {
        &self.store
    }

    /// The record of a machine.
    pub(crate) fn get(&self, machine: &str) -> Result<Option<TrustRecord>, BookError> {
        match self.changed.get(machine) {
            Some(changed) => Ok(changed.clone()),
            None => self.store.get(machine),
        }
    }

    /// Writes a record in place of what there is.
    pub(crate) fn put(&mut self, machine: &str, record: TrustRecord) {
        self.changed.insert(machine.to_owned(), Some(record));
    }

    /// Removes a record; whether there was one.
    pub(crate) fn remove(&mut self, machine: &str) -> bool {
        let was = match self.changed.get(machine) {
            Some(changed) => changed.is_some(),
            None => self.store.ledger.has(machine),
        };
        if was {
            self.changed.insert(machine.to_owned(), None);
        }
        was
    }

    pub(crate) fn is_revoked(&self, fingerprint: &Fingerprint) -> Option<&Revoked> {
        let new = self.revoked.iter().find(|revoked| revoked.fingerprint == *fingerprint);
        new.or_else(|| self.store.is_revoked(fingerprint))
    }

    pub(crate) fn revoke(&mut self, revoked: Revoked) {
        self.revoked.push(revoked);
    }

    pub(crate) fn unrevoke(&mut self, fingerprint: Fingerprint) {
        self.unrevoked.push(fingerprint);
    }

    pub(crate) fn is_unchanged(&self) -> bool {
        self.changed.is_empty() && self.revoked.is_empty() && self.unrevoked.is_empty()
    }

    /// What is to be written behind what there is; nothing when something is to go from there.
    pub(crate) fn new_text(&self) -> Result<Option<String>, BookError> {
        if !self.unrevoked.is_empty() || self.changed.values().any(Option::is_none) {
            return Ok(None);
        }
        let mut text = String::new();
        for revoked in &self.revoked {
            self.add_revoked(&mut text, revoked)?;
        }
        for (name, record) in self.changed.iter().filter_map(|(name, record)| Some((name, record.as_ref()?)))
        {
            self.add_record(&mut text, name, record)?;
        }
        Ok(Some(text))
    }

    /// All that is to be in the file.
    pub(crate) fn whole_text(&self) -> Result<String, BookError> {
        let mut text = String::new();
        for revoked in self.store.revoked().iter().chain(&self.revoked) {
            if !self.unrevoked.contains(&revoked.fingerprint) {
                self.add_revoked(&mut text, revoked)?;
            }
        }
        let ledger = &self.store.ledger;
        let mut names = ledger.machines();
        names.extend(self.changed.keys().map(String::as_str).filter(|name| !ledger.has(name)));
        names.sort_unstable();
        for name in names {
            match self.changed.get(name) {
                None => add(&mut text, ledger.text_of(name)),
                Some(Some(record)) => self.add_record(&mut text, name, record)?,
                Some(None) => {}
            }
        }
        Ok(text)
    }

    fn add_record(&self, text: &mut String, name: &str, record: &TrustRecord) -> Result<(), BookError> {
        add(text, &LedgerForm::text_of(&self.store.path, name, record)?);
        Ok(())
    }

    fn add_revoked(&self, text: &mut String, revoked: &Revoked) -> Result<(), BookError> {
        add(text, &LedgerForm::text_of_revoked(&self.store.path, revoked)?);
        Ok(())
    }
}

fn add(text: &mut String, record: &str) {
    text.push_str(record);
    text.push_str(RULE);
}
