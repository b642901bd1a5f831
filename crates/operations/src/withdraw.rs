//! The public half leaves a machine, unless it is the last way in.

use std::path::PathBuf;

use lantern_book::{KeyRing, RingEntry};
use lantern_link::{Ask, AuthFailure, KeyChoice, LinkError};

use crate::OperationError;
use crate::login::{Proof, Way, prove};
use crate::place::{Change, remove_line};

/// Why a key was not withdrawn.
#[derive(Debug, thiserror::Error)]
pub enum WithdrawError {
    /// It could not be carried out.
    #[error(transparent)]
    Operation(#[from] OperationError),
    /// The file that is to be another way in may hold the very key.
    #[error("{} does not show that it is another key than {key}", path.display())]
    SameKey {
        /// The file.
        path: PathBuf,
        /// The key.
        key: String,
    },
    /// No login worked without it, so it stays.
    #[error("{key} may be the last way into {machine}: no login worked without it, so it stays")]
    LastWay {
        /// The key.
        key: String,
        /// The machine.
        machine: String,
        /// What the login without it came to.
        source: Box<AuthFailure>,
    },
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Withdrawal {
    /// Whether the list had to be changed.
    pub change: Change,
    /// Whether the machine still lets the key in, by another list.
    pub still_in: bool,
    /// The user that it was withdrawn for.
    pub user: String,
}

/// Takes a key of the ring out of the list on a machine, over a login without it: that proves another way in. `even_the_last`: over any login.
/// `nobody` answers where the key is tried afterwards: whether the machine takes it shows before its passphrase is needed. What was
/// done is noted in the ring.
///
/// # Errors
/// See [`WithdrawError`].
pub async fn withdraw(
    way: Way<'_>,
    entry: &RingEntry,
    even_the_last: bool,
    nobody: &dyn Ask,
) -> Result<Withdrawal, WithdrawError> {
    let user = way.target.user(way.options).map_err(OperationError::from)?;
    let keys = match way.target.keys(way.options) {
        keys if even_the_last => keys,
        other => keys_without(other, entry)?,
    };
    let trunk = way.log_in(keys, false).await.map_err(|error| match error {
        OperationError::Link(LinkError::Auth(source)) => {
            let (key, machine) = (entry.name.clone(), way.target.name.clone());
            WithdrawError::LastWay { key, machine, source }
        }
        other => other.into(),
    })?;
    let change = remove_line(&trunk, &entry.public).await.map_err(OperationError::from)?;
    trunk.close().await;
    let still_in = match prove(Way { ask: nobody, ..way }, &entry.name).await? {
        Proof::LoggedIn(trunk) => {
            trunk.close().await;
            true
        }
        Proof::Accepted => true,
        Proof::Refused(_) => false,
    };
    let noted =
        KeyRing::new(way.home).change_note(&entry.name, |note| note.note_withdrawn(&way.target.name, &user));
    noted.map_err(OperationError::from)?;
    Ok(Withdrawal { change, still_in, user })
}

/// The keys that prove another way in.
fn keys_without(keys: KeyChoice, entry: &RingEntry) -> Result<KeyChoice, WithdrawError> {
    Ok(match keys {
        // The machine's own key in the book is the usual one to be withdrawn.
        KeyChoice::Named(names) if names.iter().any(|name| *name != entry.name) => {
            KeyChoice::Named(names.into_iter().filter(|name| *name != entry.name).collect())
        }
        KeyChoice::Nothing => KeyChoice::Nothing,
        KeyChoice::File(path) => {
            // A file that hides its public half could be the very key.
            let other = KeyRing::read_file(&path).map_err(OperationError::from)?.0;
            if other.public().is_none_or(|public| *public == entry.public) {
                return Err(WithdrawError::SameKey { path, key: entry.name.clone() });
            }
            KeyChoice::File(path)
        }
        _ => KeyChoice::RingWithout(entry.public.clone()),
    })
}
