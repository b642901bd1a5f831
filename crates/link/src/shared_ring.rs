//! A key ring that many connections at once log in from: it is listed once, and each of its keys is read and opened once, by whoever needs it first.
//!
//! It is of one undertaking, and goes with it: what changes in the ring meanwhile is for the next one.

use std::collections::HashMap;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use lantern_book::{BookError, KeyRing, KeySummary};
use lantern_keys::PrivateKey;

/// A key, once it is open. Whoever opens it holds the lock meanwhile: the others wait for what comes of it.
pub(crate) type Slot = Arc<tokio::sync::Mutex<Option<Arc<PrivateKey>>>>;

/// What was read and opened of a ring.
#[derive(Default)]
pub struct SharedRing {
    listed: Mutex<Option<Arc<Vec<KeySummary>>>>,
    opened: Mutex<HashMap<String, Slot>>,
}

impl fmt::Debug for SharedRing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SharedRing")
    }
}

impl SharedRing {
    /// The keys of the ring that can be read.
    ///
    /// # Errors
    /// The ring cannot be listed.
    pub(crate) fn listed(&self, ring: &KeyRing) -> Result<Arc<Vec<KeySummary>>, BookError> {
        let mut listed = self.listed.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(listed) = &*listed {
            return Ok(listed.clone());
        }
        let read = Arc::new(readable(ring)?);
        *listed = Some(read.clone());
        Ok(read)
    }

    /// Where a key is once it is open.
    pub(crate) fn slot(&self, name: &str) -> Slot {
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        opened.entry(name.to_owned()).or_default().clone()
    }
}

/// The keys of a ring that can be read. A broken file in it is reported by `key list`; here the others serve.
///
/// # Errors
/// The ring cannot be listed.
pub(crate) fn readable(ring: &KeyRing) -> Result<Vec<KeySummary>, BookError> {
    Ok(ring.summaries()?.into_iter().filter_map(|(_, key)| key.ok()).collect())
}
