//! Keys of certificates: of the ring, opened; or new ones.

use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, SystemRandom};

use crate::cli::certificate::KeyArgs;
use crate::cli::open::OpenArgs;
use crate::commands::key::default_comment;
use crate::commands::key_source::pick_opened;
use crate::screen::failure::{Failure, chain, code};
use crate::screen::output;
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
    let what = format!("the key {name}");
    let passphrase = passphrase::choose_new(
        &what,
        args.plain,
        args.new_passphrase_from.as_ref(),
        "--new-passphrase-from",
    )?;
    if matches!(args.algorithm, KeyAlgorithm::Rsa(_)) {
        output::say("Looking for primes; that can take a few seconds.");
    }
    let key = PrivateKey::generate(args.algorithm, &default_comment())
        .map_err(|error| Failure::new(code::INTERNAL, chain(&error)))?;
    let note = KeyNote { made: Some(Timestamp::now()), ..KeyNote::default() };
    KeyRing::new(home).add(name, &key, Protect::with(passphrase.as_ref()), note, &mut SystemRandom)?;
    Ok(key)
}

/// Before anyone types a passphrase for nothing.
pub(super) fn check_free(home: &Home, name: &str) -> Result<(), Failure> {
    match KeyRing::new(home).private_path(name).exists() {
        true => Err(Failure::new(code::LOCAL, format!("a key called {name} is in the ring already"))
            .hint(format!("`--key {name}` uses it"))),
        false => Ok(()),
    }
}
