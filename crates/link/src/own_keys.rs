//! The user's own keys: which may be offered, and opening them.

use std::sync::Arc;

use lantern_book::{KeyRing, RingEntry};
use lantern_keys::container::Sealed;
use lantern_keys::{KeyError, PrivateKey};

use crate::{Ask, ConnectRequest, KeyChoice, LinkError};

/// Most keys offered on one connection: servers close after about six failures, and each costs a round trip.
const MAX_KEYS_OFFERED: usize = 5;
/// Most tries at a key's passphrase.
const MAX_PASSPHRASE_TRIES: u32 = 3;

/// A key that may be offered: closed until it is needed.
pub(crate) struct OwnKey {
    pub(crate) name: String,
    pub(crate) sealed: Sealed,
    pub(crate) opened: Option<Arc<PrivateKey>>,
}

/// The keys that a request lets us offer, those that cost no question first.
pub(crate) fn own_keys(request: &ConnectRequest<'_>) -> Result<Vec<OwnKey>, LinkError> {
    let ring = KeyRing::new(request.home);
    let own = |name: String, sealed: Sealed| {
        let opened = if sealed.is_protected() { None } else { sealed.open(None).ok().map(Arc::new) };
        OwnKey { name, sealed, opened }
    };
    let from_entry = |entry: RingEntry| own(entry.name, entry.sealed);
    Ok(match &request.keys {
        KeyChoice::Nothing => Vec::new(),
        KeyChoice::Named(name) => vec![from_entry(ring.get(name)?)],
        KeyChoice::File(path) => {
            vec![own(path.display().to_string(), KeyRing::read_file(path)?)]
        }
        KeyChoice::Ring => {
            // A broken file in the ring is reported by `key list`; here the others serve.
            let mut keys: Vec<_> = ring.all()?.into_iter().filter_map(Result::ok).map(from_entry).collect();
            // Keys that cost no question first, so that a passphrase is asked for only when needed.
            keys.sort_by_key(|key| key.opened.is_none());
            keys.truncate(MAX_KEYS_OFFERED);
            keys
        }
    })
}

/// The private half, asking for its passphrase when there is one; else why there is none to be had.
pub(crate) fn unlock(key: &mut OwnKey, ask: &mut dyn Ask) -> Result<Arc<PrivateKey>, &'static str> {
    if let Some(opened) = &key.opened {
        return Ok(opened.clone());
    }
    for attempt in 0..MAX_PASSPHRASE_TRIES {
        let passphrase =
            ask.passphrase(&key.name, attempt > 0).ok_or("locked, and no passphrase was given")?;
        match key.sealed.open(Some(&passphrase)) {
            Ok(opened) => return Ok(key.opened.insert(Arc::new(opened)).clone()),
            Err(KeyError::WrongPassphrase | KeyError::PassphraseNeeded) => {}
            Err(_) => return Err("its file is damaged"),
        }
    }
    Err("locked, and the passphrase was wrong")
}
