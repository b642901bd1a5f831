//! Keys of certificates: of the ring, opened; or new ones.

use lantern_book::{Home, KeyRing};
use lantern_keys::{PrivateKey, PublicKey};

use crate::cli::certificate::KeyArgs;
use crate::cli::open::OpenArgs;
use crate::commands::key::default_comment;
use crate::commands::key::new::{self, NewKey};
use crate::commands::key_source::pick_opened;
use crate::screen::failure::{Failure, code};
use crate::terminal::passphrase;

/// Opens a key of the ring.
///
/// # Errors
/// It is not there, or stays closed.
pub(crate) fn open(home: &Home, name: &str, args: &OpenArgs) -> Result<PrivateKey, Failure> {
    let entry = KeyRing::new(home).get(name)?;
    let opened = passphrase::open(&entry.sealed, name, args)?;
    pick_opened(opened.keys, None, name)
}

/// The public half of a key that a certificate is to be for: of the ring, or of a new one, which is kept in the ring. With its name there.
///
/// # Errors
/// It is not there, the name is taken, or nobody to ask for a passphrase.
pub(super) fn public(home: &Home, usual: &str, args: &KeyArgs) -> Result<(String, PublicKey), Failure> {
    if let Some(name) = &args.key {
        return Ok((name.clone(), KeyRing::new(home).get(name)?.public));
    }
    let key = make(home, usual, args)?;
    Ok((usual.to_owned(), key.public().clone()))
}

/// Makes a key in the ring.
///
/// # Errors
/// The name is taken, or nobody to ask for a passphrase.
pub(super) fn make(home: &Home, name: &str, args: &KeyArgs) -> Result<PrivateKey, Failure> {
    check_free(home, name)?;
    let new = NewKey {
        name,
        algorithm: args.algorithm,
        comment: default_comment(),
        plain: args.plain,
        passphrase_from: args.new_passphrase_from.as_ref(),
        option: "--new-passphrase-from",
        for_certificates: true,
    };
    new::make(&KeyRing::new(home), new).map(|(key, ..)| key)
}

/// Before anyone types a passphrase for nothing.
pub(super) fn check_free(home: &Home, name: &str) -> Result<(), Failure> {
    match KeyRing::new(home).private_path(name).exists() {
        true => Err(Failure::new(code::LOCAL, format!("a key called {name} is in the ring already"))
            .hint(format!("`--key {name}` uses it"))),
        false => Ok(()),
    }
}
