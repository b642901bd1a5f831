//! What `key install`, `key withdraw` and `key rotate` share: changing the list of keys on a machine, and proving what
//! came of it by logging in.

use lantern_book::{Home, RingEntry};
use lantern_keys::PublicKey;
use lantern_keys::login_list::{self, Added};
use lantern_link::remote_logins::{self, LoginsError};
use lantern_link::{KeyChoice, LinkError, Trunk};

use crate::ask::TerminalAsk;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, chain, code};
use crate::target::{ConnectFailure, Target};

/// What became of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Change {
    /// The list has it now, or has it no more.
    Made,
    /// It was so already.
    None,
}

/// Adds the key to the list on the machine. A list that has it already is written again as it is, which puts owner and
/// modes right.
///
/// # Errors
/// What the machine says.
pub(super) async fn add_line(trunk: &Trunk, entry: &RingEntry, options: &str) -> Result<Change, Failure> {
    let list = remote_logins::read(trunk).await?;
    match login_list::add(&list, &entry.public, &entry.comment, options) {
        Added::Already(_) => {
            remote_logins::write(trunk, &list, &list).await?;
            Ok(Change::None)
        }
        Added::Changed(new) => {
            remote_logins::write(trunk, &list, &new).await?;
            Ok(Change::Made)
        }
    }
}

/// Adds a key beside another one, with the very options that the other has: what was limited stays so.
///
/// # Errors
/// What the machine says.
pub(super) async fn add_line_like(
    trunk: &Trunk,
    entry: &RingEntry,
    other: &PublicKey,
) -> Result<(), Failure> {
    let options = options_of(trunk, other).await?;
    add_line(trunk, entry, &options).await.map(drop)
}

/// The options that a key has in the list on the machine; none when it is not there.
///
/// # Errors
/// What the machine says.
pub(super) async fn options_of(trunk: &Trunk, key: &PublicKey) -> Result<String, Failure> {
    let list = remote_logins::read(trunk).await?;
    let line = login_list::keys(&list).into_iter().find(|line| line.key == *key);
    Ok(line.map(|line| line.options).unwrap_or_default())
}

/// Takes the key out of the list on the machine.
///
/// # Errors
/// What the machine says.
pub(super) async fn remove_line(trunk: &Trunk, key: &PublicKey) -> Result<Change, Failure> {
    let list = remote_logins::read(trunk).await?;
    match login_list::remove(&list, key) {
        Some(new) => {
            remote_logins::write(trunk, &list, &new).await?;
            Ok(Change::Made)
        }
        None => Ok(Change::None),
    }
}

/// What logging in with one key and nothing else came to.
pub(super) enum Proof {
    /// It let us in.
    LoggedIn(Trunk),
    /// The machine takes the key, and wants more besides, or the key stayed locked.
    Accepted,
    /// The machine does not take it.
    Refused(LinkError),
}

/// Logs in with this key of the ring alone.
///
/// # Errors
/// Failures that say nothing about the key.
pub(super) async fn prove(
    target: &Target,
    home: &Home,
    args: &ConnectArgs,
    ask: &TerminalAsk,
    key: &str,
) -> Result<Proof, Failure> {
    match target.try_connect(home, args, ask, KeyChoice::Named(vec![key.to_owned()]), true).await {
        Ok(trunk) => Ok(Proof::LoggedIn(trunk)),
        Err(ConnectFailure::Link(LinkError::Auth(auth))) => {
            // "Locked" comes after the machine was asked about the key, and said yes.
            let taken = |outcome: &str| outcome.starts_with("accepted") || outcome.starts_with("locked");
            Ok(match auth.report.iter().any(|line| taken(line.outcome)) {
                true => Proof::Accepted,
                false => Proof::Refused(LinkError::Auth(auth)),
            })
        }
        Err(failure) => Err(failure.into_failure()),
    }
}

impl From<LoginsError> for Failure {
    fn from(error: LoginsError) -> Self {
        match error {
            LoginsError::Link(error) => error.into(),
            LoginsError::OtherCommand => Self::new(code::SESSION, error.to_string())
                .hint("`--key OTHER` logs in with another key, `--no-key` with the password"),
            LoginsError::Changed => Self::new(code::SESSION, error.to_string()).hint("do it again"),
            error => Self::new(code::SESSION, chain(&error))
                .hint("this needs a machine with a POSIX shell; its list is ~/.ssh/authorized_keys"),
        }
    }
}
