//! The original of an imported key goes: when it is a file of its own, when all that it holds is that key, and when that is proven to be in
//! the ring.

use std::fs;
use std::os::unix::fs::MetadataExt;

use lantern_book::{BookError, FileIdentity, RingEntry, kind_in_words};
use lantern_keys::container::Found;
use lantern_keys::{KeyError, PrivateKey, SecretString};

use crate::cli::open::OpenArgs;
use crate::commands::key_source::KeyFile;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::passphrase;

/// Refuses what could not be moved, before anything is asked.
///
/// # Errors
/// Standard input, a pipe, a device, a link.
pub(super) fn check(file: &KeyFile) -> Result<(), Failure> {
    let refused = |what: String| Failure::new(code::USAGE, what).hint("without --move the key is taken in");
    let Some(path) = &file.path else {
        return Err(refused("standard input is no file that could be moved".into()));
    };
    let kind = fs::symlink_metadata(path).map_err(|source| BookError::Io {
        action: "look at",
        path: path.clone(),
        source,
    })?;
    match file.identity {
        Some(_) if kind.is_file() => Ok(()),
        _ => {
            let what = kind_in_words(kind.file_type());
            let failure = refused(format!("{} is {what}, and only a file can be moved", file.name()));
            Err(match fs::canonicalize(path) {
                Ok(target) if kind.is_symlink() => {
                    failure.detail(format!("it leads to {}", target.display()))
                }
                _ => failure,
            })
        }
    }
}

/// What else is in a file, besides the key that was taken.
pub(super) fn what_else(file: &KeyFile) -> String {
    let mut parts = Vec::new();
    let mut count = |number: usize, one: &str, many: &str| match number {
        0 => {}
        1 => parts.push(format!("1 {one}")),
        number => parts.push(format!("{number} {many}")),
    };
    let private = |found: &&Result<Found, KeyError>| matches!(found, Ok(Found::Private(_)));
    let privates = file.found.iter().filter(private).count();
    let in_one = file.found.iter().find_map(|found| match found {
        Ok(Found::Private(sealed)) => Some(sealed.publics().len()),
        _ => None,
    });
    count(privates.max(in_one.unwrap_or(1)) - 1, "other private key", "other private keys");
    let broken = file.found.iter().filter(|found| found.is_err()).count();
    count(file.found.len() - privates - broken, "public key or certificate", "public keys or certificates");
    count(broken, "thing that is damaged", "things that are damaged");
    count(file.lines_beside, "line of other text", "lines of other text");
    format!("besides the key it holds {}", parts.join(" and "))
}

/// Whether the ring's copy of this key opens and is the same. The passphrase of the file is tried first.
///
/// # Errors
/// It does not open, or is another key.
pub(super) fn prove_held(
    entry: &RingEntry,
    key: &PrivateKey,
    passphrase: Option<&SecretString>,
) -> Result<(), Failure> {
    let same = |keys: &[PrivateKey]| keys.iter().any(|held| held.public() == key.public());
    if let Ok(held) = entry.sealed.open(passphrase)
        && same(&[held])
    {
        return Ok(());
    }
    let name = format!("the ring's {}", entry.name);
    let opened = passphrase::open(&entry.sealed, &name, &OpenArgs::default()).map_err(|failure| {
        failure.detail("the file stays: nothing proves that the ring's copy can be used")
    })?;
    match same(&opened.keys) {
        true => Ok(()),
        false => Err(Failure::new(code::LOCAL, format!("{name} holds another key than it shows"))),
    }
}

/// Removes the file, when it is the one that was read.
///
/// # Errors
/// Another one by now; what the system says.
pub(super) fn remove(file: &KeyFile) -> Result<(), Failure> {
    let Some(path) = &file.path else { return Ok(()) };
    let stays = |why: String| Failure::new(code::LOCAL, format!("{} cannot be removed: {why}", file.name()));
    let there = fs::symlink_metadata(path).map_err(|error| stays(error.to_string()))?;
    if Some(FileIdentity::of(&there)) != file.identity {
        return Err(stays("it is another file by now".into()));
    }
    fs::remove_file(path).map_err(|error| stays(error.to_string()))?;
    if there.nlink() > 1 {
        output::warn(format!(
            "the file had {} more names (hard links): the key can still be read under them.",
            there.nlink() - 1
        ));
    }
    Ok(())
}
