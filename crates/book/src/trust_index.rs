//! Who else has a key or an address, without a look at every record each time. What is found here is looked at again: records may have changed.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;

use crate::trust_ledger::{Ledger, Shared, shared_words};

/// The machines by what they have, or had.
#[derive(Debug, Default)]
pub(crate) struct TrustIndex {
    hasher: RandomState,
    machines: HashMap<u64, Vec<Arc<str>>>,
    pieces: usize,
}

impl TrustIndex {
    /// Machines that have, or had, this key or address, after a look at what the ledger has besides what was seen here.
    pub(crate) fn machines(&mut self, ledger: &Ledger, what: Shared<'_>) -> Vec<Arc<str>> {
        for text in ledger.pieces_from(self.pieces) {
            let mut latest: Arc<str> = "".into();
            shared_words(text, |machine, what| {
                if *latest != *machine {
                    latest = machine.into();
                }
                let holders = self.machines.entry(self.hasher.hash_one(what)).or_default();
                if holders.last().is_none_or(|last| *last != latest) {
                    holders.push(latest.clone());
                }
            });
            self.pieces += 1;
        }
        let mut found = self.machines.get(&self.hasher.hash_one(what)).cloned().unwrap_or_default();
        found.sort_unstable();
        found.dedup();
        found
    }
}
