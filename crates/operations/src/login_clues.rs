//! What is known here that says why a login was refused.

use lantern_book::{BookError, Home, KeyRing, MachineBook, TrustStore, Uses};

use crate::Target;

/// Another entry of the book for the same host, which was logged in to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SameHost {
    /// Its name.
    pub machine: String,
    /// The user there, when the book says.
    pub user: Option<String>,
    /// The key that was taken there, by its name in the ring.
    pub key: Option<String>,
}

/// What is known here about a login that was refused.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LoginClues {
    /// Whether there is a key in the ring at all.
    pub has_keys: bool,
    /// The entry that worked last, of those with the same host key.
    pub same_host: Option<SameHost>,
}

/// Looks for clues. What cannot be read gives none.
pub fn login_clues(home: &Home, target: &Target) -> LoginClues {
    LoginClues {
        has_keys: KeyRing::new(home).names().is_ok_and(|names| !names.is_empty()),
        same_host: same_host(home, target).ok().flatten(),
    }
}

fn same_host(home: &Home, target: &Target) -> Result<Option<SameHost>, BookError> {
    let trust = TrustStore::load(home)?;
    let own = trust.keys(&target.name)?;
    if own.is_empty() {
        return Ok(None);
    }
    let (book, uses) = (MachineBook::load(home)?, Uses::of(home));
    let mut found = None;
    for (name, record) in trust.records()? {
        let is_same = name != target.name && record.keys.iter().any(|known| own.contains(&known.key));
        // Of ten thousand records few are the same, and each note is a file of its own.
        if !is_same || book.get(&name).is_err() {
            continue;
        }
        let used = uses.get(&name);
        if used.used > found.as_ref().and_then(|(time, _, _)| *time) {
            found = Some((used.used, name, used.took));
        }
    }
    let Some((_, machine, took)) = found else { return Ok(None) };
    let user = book.effective(&machine)?.text(lantern_book::Field::User).map(str::to_owned);
    let key = took.and_then(|took| {
        let keys = KeyRing::new(home).summaries().ok()?;
        let took = took.to_string();
        keys.into_iter()
            .find(|(_, key)| key.as_ref().is_ok_and(|key| key.fingerprint == took))
            .map(|(name, _)| name)
    });
    Ok(Some(SameHost { machine, user, key }))
}
