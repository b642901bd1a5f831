//! A new key takes the place of an old one, machine by machine. Every step looks at what is there and does what is missing, so that after
//! a failure at any point the same rotation goes on where it ended.

use jiff::Timestamp;
use lantern_book::{BookError, Home, Installed, KeyNote, KeyRing, MachineBook, RingEntry, check_name_of};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, RsaBits, SecretString, SystemRandom};
use lantern_link::{KeyChoice, LinkError};
use tracing::debug;

use crate::OperationError;
use crate::login::{Proof, Way, prove};
use crate::place::{Change, add_line_like, options_of, remove_line};

/// Why a rotation could not go on.
#[derive(Debug, thiserror::Error)]
pub enum RotateError {
    /// It could not be carried out.
    #[error(transparent)]
    Operation(#[from] OperationError),
    /// Another key has begun to take its place.
    #[error("{old} is being replaced by {begun} already")]
    Begun {
        /// The old key.
        old: String,
        /// The new one.
        begun: String,
    },
    /// The machine wants more than a key.
    #[error("{machine} wants more than a key, so nobody can prove that {new} opens it alone")]
    MoreWanted {
        /// The machine.
        machine: String,
        /// The new key.
        new: String,
        /// The old one.
        old: String,
    },
    /// The new key stands in the list, and does not log in.
    #[error("{new} stands in the list of {machine}, but the machine does not let it in")]
    NotProven {
        /// The new key.
        new: String,
        /// The machine.
        machine: String,
        /// What its login came to.
        source: Box<LinkError>,
    },
}

/// The machines that a key is known to be in use on: those whose entry names it, and those that it was installed on. A place outside
/// the book is given with its user.
///
/// # Errors
/// A book that cannot be read.
pub fn machines_of(home: &Home, key: &RingEntry) -> Result<Vec<String>, BookError> {
    let book = MachineBook::load(home)?;
    let mut machines: Vec<String> = book.users_of_key(&key.name).map(str::to_owned).collect();
    let noted = key.note.installed.iter().map(|place| match book.get(&place.machine) {
        Ok(_) => place.machine.clone(),
        Err(_) => format!("{}@{}", place.user, place.machine),
    });
    for machine in noted {
        if !machines.contains(&machine) {
            machines.push(machine);
        }
    }
    Ok(machines)
}

/// The name of the new key: the one of a rotation that has begun, the one asked for, or the next number.
///
/// # Errors
/// A name that is taken or none; [`RotateError::Begun`].
pub fn new_name(ring: &KeyRing, old: &RingEntry, wanted: Option<&str>) -> Result<String, RotateError> {
    if let Some(begun) = &old.note.replaced_by {
        return match wanted {
            Some(wanted) if wanted != begun => {
                Err(RotateError::Begun { old: old.name.clone(), begun: begun.clone() })
            }
            _ => Ok(begun.clone()),
        };
    }
    let book = |error: BookError| RotateError::Operation(error.into());
    if let Some(wanted) = wanted {
        check_name_of("key name", wanted).map_err(book)?;
        return match ring.private_path(wanted).exists() {
            true => Err(book(BookError::Exists { what: "key", name: wanted.to_owned() })),
            false => Ok(wanted.to_owned()),
        };
    }
    let (stem, number) = match old.name.rsplit_once('-') {
        Some((stem, number)) if number.len() < 5 => (stem, number.parse::<u32>().ok()),
        _ => (old.name.as_str(), None),
    };
    // `lamp-01` is a name and no second key of `lamp`: a number that we gave has no leading zero.
    let (stem, number) = match number {
        Some(number) if old.name.ends_with(&format!("-{number}")) => (stem, number),
        _ => (old.name.as_str(), 1),
    };
    let free = |name: &String| !ring.private_path(name).exists();
    let name = (number + 1..).map(|number| format!("{stem}-{number}")).find(free).unwrap_or_default();
    check_name_of("key name", &name).map_err(book)?;
    Ok(name)
}

/// Notes that a key of this name takes the old one's place: before it exists, so that it is never made twice.
///
/// # Errors
/// What writing runs into.
pub fn begin(ring: &KeyRing, old: &RingEntry, name: &str) -> Result<(), BookError> {
    ring.change_note(&old.name, |note| note.replaced_by = Some(name.to_owned()))
}

/// Makes the new key: of the kind of the old one, with its comment and its passphrase.
///
/// # Errors
/// What making or writing it runs into.
pub fn make(
    ring: &KeyRing,
    old: &PrivateKey,
    name: &str,
    passphrase: Option<&SecretString>,
) -> Result<PublicKey, OperationError> {
    let key = PrivateKey::generate(same_algorithm(old.public()), old.comment())
        .map_err(|source| OperationError::Key { name: name.to_owned(), source })?;
    let note = KeyNote { made: Some(Timestamp::now()), ..KeyNote::default() };
    ring.add(name, &key, Protect::with(passphrase), note, &mut SystemRandom)?;
    Ok(key.public().clone())
}

/// The kind of the old key, at a size that is made today.
fn same_algorithm(key: &PublicKey) -> KeyAlgorithm {
    match key {
        PublicKey::Ed25519(_) => KeyAlgorithm::Ed25519,
        PublicKey::Ecdsa { curve, .. } => KeyAlgorithm::Ecdsa(*curve),
        PublicKey::Rsa { n, .. } => KeyAlgorithm::Rsa(match n.len() * 8 {
            0..=3072 => RsaBits::B3072,
            3073..=4096 => RsaBits::B4096,
            _ => RsaBits::B8192,
        }),
    }
}

/// Everything on one machine. Each step begins with a look, so that done twice it does nothing twice. `by_another`: a key that was named for
/// it logs in wherever the list is changed, instead of the two.
///
/// # Errors
/// See [`RotateError`].
pub async fn rotate_on(
    way: Way<'_>,
    old: &RingEntry,
    new: &RingEntry,
    by_another: bool,
) -> Result<(), RotateError> {
    let (home, machine) = (way.home, &way.target.name);
    let ring = KeyRing::new(home);
    let operation = |error: BookError| RotateError::Operation(error.into());
    let logins = |error| RotateError::Operation(OperationError::Logins(error));
    let user = way.target.user(way.options).map_err(OperationError::from)?;
    let mut trunk = match prove(way, &new.name).await? {
        Proof::LoggedIn(trunk) => trunk,
        _ => {
            let keys = match by_another {
                true => way.target.keys(way.options),
                false => KeyChoice::Named(vec![old.name.clone()]),
            };
            let trunk = way.log_in(keys, false).await?;
            add_line_like(&trunk, new, &old.public).await.map_err(logins)?;
            trunk.close().await;
            match prove(way, &new.name).await? {
                Proof::LoggedIn(trunk) => trunk,
                Proof::Accepted => {
                    let (new, old) = (new.name.clone(), old.name.clone());
                    return Err(RotateError::MoreWanted { machine: machine.clone(), new, old });
                }
                Proof::Refused(source) => {
                    let (new, machine) = (new.name.clone(), machine.clone());
                    return Err(RotateError::NotProven { new, machine, source: Box::new(source) });
                }
            }
        }
    };
    if by_another {
        // The key that was named for it goes on with the list: the new one may be limited to a command.
        trunk.close().await;
        trunk = way.log_in_as_usual().await?;
    }
    let limits = options_of(&trunk, &new.public).await.map_err(logins)?;
    let place = Installed { machine: machine.clone(), user: user.clone(), at: Timestamp::now(), limits };
    ring.change_note(&new.name, |note| note.note_installed(place)).map_err(operation)?;
    // The book first: should anything stop us now, the machine is reached with the key that works.
    MachineBook::replace_key(home, machine, &old.name, &new.name).map_err(operation)?;
    let change = remove_line(&trunk, &old.public).await.map_err(logins)?;
    trunk.close().await;
    if change == Change::None {
        debug!(machine, key = old.name, "was out already");
    }
    ring.change_note(&old.name, |note| note.note_withdrawn(machine, &user)).map_err(operation)
}
