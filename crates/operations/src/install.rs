//! The public half goes onto a machine, and a login proves it.

use jiff::Timestamp;
use lantern_book::{Installed, KeyRing, MachineBook, RingEntry};
use lantern_link::LinkError;

use crate::OperationError;
use crate::login::{Proof, Way, prove};
use crate::place::{Change, add_line};

/// Why a key was not installed.
#[derive(Debug, thiserror::Error)]
pub enum InstallError {
    /// It could not be carried out.
    #[error(transparent)]
    Operation(#[from] OperationError),
    /// The machine is to offer the key from now on, and is not in the book.
    #[error("{machine} is not in the book, so it cannot use a key of it")]
    NotInBook {
        /// The machine.
        machine: String,
    },
    /// The line is there, and yet the key does not log in.
    #[error("{key} stands in the list of {machine}, but the machine does not let it in")]
    NotProven {
        /// The key.
        key: String,
        /// The machine.
        machine: String,
        /// What its login came to.
        source: Box<LinkError>,
    },
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installation {
    /// Whether the list had to be changed.
    pub change: Change,
    /// Whether a login with the key alone was made; else the machine takes it, and wanted more.
    pub logged_in: bool,
    /// The user that it was installed for.
    pub user: String,
    /// Whether the machine is in the book.
    pub in_book: bool,
}

/// Installs a key of the ring, with these options in front of its line; `make_use`: the machine offers it from then on. What was done is noted in
/// the ring. Done again, it changes nothing.
///
/// # Errors
/// See [`InstallError`].
pub async fn install(
    way: Way<'_>,
    entry: &RingEntry,
    line_options: &str,
    make_use: bool,
) -> Result<Installation, InstallError> {
    let (home, machine) = (way.home, &way.target.name);
    let user = way.target.user(way.options).map_err(OperationError::from)?;
    let in_book = MachineBook::load(home).map_err(OperationError::from)?.get(machine).is_ok();
    if make_use && !in_book {
        return Err(InstallError::NotInBook { machine: machine.clone() });
    }
    let trunk = way.log_in_as_usual().await?;
    let change = add_line(&trunk, entry, line_options).await.map_err(OperationError::from)?;
    trunk.close().await;
    let logged_in = match prove(way, &entry.name).await? {
        Proof::LoggedIn(trunk) => {
            trunk.close().await;
            true
        }
        Proof::Accepted => false,
        Proof::Refused(source) => {
            let (key, machine) = (entry.name.clone(), machine.clone());
            return Err(InstallError::NotProven { key, machine, source: Box::new(source) });
        }
    };
    let place = Installed {
        machine: machine.clone(),
        user: user.clone(),
        at: Timestamp::now(),
        limits: line_options.to_owned(),
    };
    let noted = KeyRing::new(home).change_note(&entry.name, |note| note.note_installed(place));
    noted.map_err(OperationError::from)?;
    if make_use {
        MachineBook::set_key(home, machine, &entry.name).map_err(OperationError::from)?;
    }
    Ok(Installation { change, logged_in, user, in_book })
}
