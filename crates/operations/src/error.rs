//! Why an operation could not be carried out.

use lantern_book::BookError;
use lantern_keys::KeyError;
use lantern_link::LinkError;
use lantern_link::remote_logins::LoginsError;

use crate::ReachError;

/// Why an operation could not be carried out.
#[derive(Debug, thiserror::Error)]
pub enum OperationError {
    /// What is to be reached makes no sense.
    #[error(transparent)]
    Reach(#[from] ReachError),
    /// The connection, or the login.
    #[error(transparent)]
    Link(#[from] LinkError),
    /// The list of logins on the machine.
    #[error(transparent)]
    Logins(#[from] LoginsError),
    /// A file of the home.
    #[error(transparent)]
    Book(#[from] BookError),
    /// Another machine refused the same user and password: they are not tried here, since accounts lock.
    #[error("the password of {user} was not tried, since {refused_at} has just refused it")]
    NotTried {
        /// The user.
        user: String,
        /// The machine that refused.
        refused_at: String,
    },
    /// A key of the ring.
    #[error("cannot use the key {name}")]
    Key {
        /// Which.
        name: String,
        /// Why.
        source: KeyError,
    },
}
