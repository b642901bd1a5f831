//! What one file outside of the ring has to do with keys.

use std::path::{Path, PathBuf};

use lantern_book::{public_beside, read_key_file};
use lantern_keys::container::{Contents, Found, Secrecy, contents};
use lantern_keys::{Fingerprint, KeyError, PublicKey};

use super::problem::{Problem, PublicPlace, algorithm, protection};
use super::{Standing, Subject};
use crate::chain;

/// Looks into files, on every processor: checking an RSA key takes milliseconds.
pub(super) fn look_at(files: &[PathBuf]) -> Vec<Subject> {
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let share = files.len().div_ceil(workers).max(1);
    std::thread::scope(|scope| {
        let look = |files: &'_ [PathBuf]| files.iter().filter_map(|file| look_into(file)).collect::<Vec<_>>();
        let running: Vec<_> = files.chunks(share).map(|files| scope.spawn(move || look(files))).collect();
        running.into_iter().flat_map(|worker| worker.join().unwrap_or_default()).collect()
    })
}

/// What a file has to do with keys; nothing when it is something else.
fn look_into(path: &Path) -> Option<Subject> {
    let mut subject = Subject {
        standing: Standing::InFile,
        name: path.display().to_string(),
        path: path.to_owned(),
        key: None,
        is_alone: false,
        digest: None,
        problems: Vec::new(),
    };
    let file = match read_key_file(path) {
        Ok(read) => read,
        Err(error) => {
            subject.problems.push(Problem::Unreadable { why: chain(&error) });
            return Some(subject);
        }
    };
    let contents = contents(&file.bytes).ok()?;
    subject.is_alone = contents.is_one_private_key();
    subject.digest = Some(Fingerprint::of_blob(&file.bytes));
    let mut holds_private = false;
    for found in &contents.found {
        holds_private |= look_at_found(found, &contents, path, &mut subject);
    }
    if holds_private && file.mode & 0o077 != 0 {
        subject.problems.insert(0, Problem::Exposed { mode: file.mode });
    }
    if let Some(key) = &subject.key
        && let Some(other) = other_half_beside(path, key)
    {
        subject.problems.push(Problem::OtherHalf { public: other });
    }
    // A healthy file is kept for comparing with the others.
    (subject.key.is_some() || !subject.problems.is_empty()).then_some(subject)
}

/// Whether there is a private key in it, for whoever reads the file or knows its passphrase.
fn look_at_found(
    found: &Result<Found, KeyError>,
    contents: &Contents,
    path: &Path,
    subject: &mut Subject,
) -> bool {
    match found {
        Ok(Found::Private(sealed)) => {
            subject.key = subject.key.take().or(sealed.public().cloned());
            subject.problems.extend(protection(sealed));
            subject.problems.extend(sealed.public().and_then(algorithm));
            subject.problems.extend(public_place(path).map(Problem::Misplaced));
            true
        }
        Ok(Found::Other(other)) if other.secrecy != Secrecy::None => {
            let is_open = other.secrecy == Secrecy::Open;
            subject.problems.push(match other.what.contains("DSA") {
                true => Problem::WeakAlgorithm { why: format!("it is {}; {}", other.what, other.why) },
                false => Problem::Foreign { what: other.what.clone(), why: other.why, is_open },
            });
            true
        }
        Ok(_) => false,
        // A key that we refuse, by its algorithm or its size; a public one, or what is broken and no key, is none of our business.
        Err(error @ KeyError::Unsupported { .. }) if contents.names_private_key => {
            subject.problems.push(Problem::WeakAlgorithm { why: error.to_string() });
            true
        }
        Err(error) if contents.names_private_key => {
            subject.problems.push(Problem::Broken { why: error.to_string() });
            true
        }
        Err(_) => false,
    }
}

/// The public file beside a private one, when it is that of another key: whoever installs it opens doors for somebody else, or none.
pub(super) fn other_half_beside(private: &Path, key: &PublicKey) -> Option<PathBuf> {
    public_beside(private).into_iter().find(|(_, half)| half.key != *key).map(|(path, _)| path)
}

/// Whether a path is one from which public halves are handed out.
fn public_place(path: &Path) -> Option<PublicPlace> {
    let name = path.file_name()?.to_str()?;
    if name.ends_with(".pub") {
        return Some(PublicPlace::PublicFile);
    }
    name.starts_with("authorized_keys").then_some(PublicPlace::LoginList)
}
