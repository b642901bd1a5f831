//! The audit of files outside of the ring.

use std::path::{Path, PathBuf};

use lantern_book::{BookError, read_key_file};
use lantern_keys::KeyError;
use lantern_keys::container::{Found, MAX_FILE_LEN, read};

use super::audit::{Level, Problem, Subject, algorithm_problem, broken, exposed, protection_problem, quoted};
use crate::failure::{Failure, chain, code};

/// Most files looked at below `--path`: a folder of a million is not a folder of keys.
const MAX_FILES: usize = 200_000;

/// Every file below a folder, or the file itself; links are not followed.
pub(super) fn list_files(path: &Path, files: &mut Vec<PathBuf>) -> Result<(), Failure> {
    let failed = |path: &Path, error: std::io::Error| {
        Failure::new(code::LOCAL, format!("cannot look through {}: {error}", path.display()))
    };
    let top = std::fs::metadata(path).map_err(|error| failed(path, error))?;
    if top.is_file() {
        files.push(path.to_owned());
        return Ok(());
    }
    let mut folders = vec![path.to_owned()];
    while let Some(folder) = folders.pop() {
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if folder == path => return Err(failed(path, error)),
            Err(error) => {
                crate::output::warn(&format!("skipped {}: {error}", folder.display()));
                continue;
            }
        };
        for entry in entries.filter_map(Result::ok) {
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => folders.push(entry.path()),
                Ok(kind) if kind.is_file() => files.push(entry.path()),
                _ => {}
            }
            if files.len() > MAX_FILES {
                return Err(Failure::new(
                    code::LOCAL,
                    format!("{} has more than {MAX_FILES} files below it", path.display()),
                ));
            }
        }
    }
    files.sort();
    Ok(())
}

/// Looks into files, on every processor: checking an RSA key takes a millisecond.
pub(super) fn look_at(files: &[PathBuf]) -> Vec<Subject> {
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let share = files.len().div_ceil(workers).max(1);
    std::thread::scope(|scope| {
        let look = |files: &'_ [PathBuf]| files.iter().filter_map(|file| look_into(file)).collect::<Vec<_>>();
        let running: Vec<_> = files.chunks(share).map(|files| scope.spawn(move || look(files))).collect();
        running.into_iter().flat_map(|worker| worker.join().unwrap_or_default()).collect()
    })
}

/// What a file outside of the ring has to do with keys; nothing when it is something else.
fn look_into(path: &Path) -> Option<Subject> {
    let name = path.display().to_string();
    if std::fs::metadata(path).ok()?.len() > MAX_FILE_LEN as u64 {
        return None;
    }
    let (content, mode) = match read_key_file(path) {
        Ok(read) => read,
        Err(error) => {
            let problems = vec![unreadable(&error)];
            return Some(Subject { name, path: path.to_owned(), key: None, problems });
        }
    };
    let found = read(&content).ok()?;
    let mut subject = Subject { name, path: path.to_owned(), key: None, problems: Vec::new() };
    let file = quoted(path);
    for found in &found {
        match found {
            Ok(Found::Private(sealed)) => {
                subject.key = subject.key.or(sealed.public().cloned());
                if mode & 0o077 != 0 && !subject.problems.iter().any(|problem| problem.kind == "exposed") {
                    subject.problems.push(exposed(mode, format!("chmod 600 {file}")));
                }
                subject
                    .problems
                    .extend(protection_problem(sealed, &format!("lantern key import {file} --move")));
                let replace = "lantern key new NAME";
                subject.problems.extend(sealed.public().and_then(|key| algorithm_problem(key, replace)));
                if let Some(place) = public_place(path) {
                    subject.problems.push(misplaced(place, &file));
                }
            }
            // A key that we refuse, by its algorithm or its size; what is broken and no key is none of our business.
            Err(error @ KeyError::Unsupported { .. }) => subject.problems.push(Problem {
                level: Level::Serious,
                kind: "weak-algorithm",
                short: "weak algorithm",
                detail: error.to_string(),
                mend: "lantern key new NAME".into(),
            }),
            Err(error @ (KeyError::Inconsistent(_) | KeyError::Malformed(_))) if is_armoured(&content) => {
                subject.problems.push(broken(error.to_string(), format!("rm {file}")));
            }
            Ok(Found::Other(other)) if other.what.contains("DSA private") => subject.problems.push(Problem {
                level: Level::Serious,
                kind: "weak-algorithm",
                short: "weak algorithm",
                detail: format!("it is {}; {}", other.what, other.why),
                mend: "lantern key new NAME".into(),
            }),
            _ => {}
        }
    }
    // A healthy file is kept for comparing with the others.
    (subject.key.is_some() || !subject.problems.is_empty()).then_some(subject)
}

fn unreadable(error: &BookError) -> Problem {
    Problem {
        level: Level::Minor,
        kind: "unreadable",
        short: "unreadable",
        detail: chain(error),
        mend: "look at it as its owner".into(),
    }
}

fn misplaced(place: &str, file: &str) -> Problem {
    Problem {
        level: Level::Serious,
        kind: "misplaced",
        short: "private where public belongs",
        detail: format!("a private key stands in {place}"),
        mend: format!("lantern key import {file} --move"),
    }
}

/// Whether a path is one from which public halves are handed out, in words.
fn public_place(path: &Path) -> Option<&'static str> {
    let name = path.file_name()?.to_str()?;
    if name.ends_with(".pub") {
        return Some("a file whose name says that it is public");
    }
    name.starts_with("authorized_keys").then_some("a list of the keys that may log in")
}

fn is_armoured(content: &[u8]) -> bool {
    let private = b"PRIVATE KEY-----";
    content.windows(private.len()).any(|window| window == private)
}
