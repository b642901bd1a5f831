//! `lantern key audit`: what is wrong with keys, each with the command that mends it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use clap::Args;
use jiff::Timestamp;
use lantern_book::{Home, KeyRing, MachineBook, RingEntry};
use lantern_keys::container::Sealed;
use lantern_keys::{PublicKey, fingerprint::Fingerprint};

use super::audit_files::{list_files, look_at};
use super::audit_report;
use crate::failure::{Failure, chain};

/// Exit status when something was found.
const FOUND: u8 = 1;

/// Arguments of `key audit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key audit                            the ring
  lantern key audit --path ~/Downloads         and every key below this folder
  lantern key audit --max-age 180 --json       for a script

Looks for keys without a passphrase or with one that is quickly searched, weak algorithms
and sizes, permissions that let others read, private keys where public ones belong,
duplicates, age, and keys that no machine uses. Exit status 0 when nothing was found, 1 when
something was.")]
pub(crate) struct AuditArgs {
    /// Look through this folder as well; may be given several times
    #[arg(long = "path", value_name = "DIR")]
    paths: Vec<PathBuf>,
    /// Days after which a key of the ring is old
    #[arg(long, value_name = "DAYS", default_value_t = 730, value_parser = clap::value_parser!(u32).range(1..))]
    max_age: u32,
}

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Level {
    /// Somebody else could use the key, or soon can.
    Serious,
    /// Worth knowing.
    Minor,
}

/// One thing that is wrong.
#[derive(Debug)]
pub(super) struct Problem {
    pub(super) level: Level,
    /// A name for scripts.
    pub(super) kind: &'static str,
    /// In two or three words.
    pub(super) short: &'static str,
    /// In a sentence.
    pub(super) detail: String,
    /// The command that mends it.
    pub(super) mend: String,
}

/// A key or a file, and what is wrong with it.
#[derive(Debug)]
pub(super) struct Subject {
    /// Name in the ring, or path.
    pub(super) name: String,
    pub(super) path: PathBuf,
    pub(super) key: Option<PublicKey>,
    pub(super) problems: Vec<Problem>,
}

impl Subject {
    fn is_in_ring(&self) -> bool {
        self.name != self.path.display().to_string()
    }
}

pub(super) fn run(args: &AuditArgs, home: &Home, json: bool) -> Result<u8, Failure> {
    let ring = KeyRing::new(home);
    let book = MachineBook::load(home)?;
    let mut subjects = Vec::new();
    let oldest = Timestamp::now() - jiff::SignedDuration::from_hours(24 * i64::from(args.max_age));
    let names = ring.names()?;
    for (name, entry) in names.iter().zip(ring.all()?) {
        let path = ring.private_path(name);
        subjects.push(match entry {
            Ok(entry) => {
                let mut problems = problems_of_entry(&entry);
                problems.extend(problems_of_use(&entry, &book, oldest, args.max_age));
                Subject { name: entry.name, path, key: Some(entry.public), problems }
            }
            Err(error) => {
                let problems = vec![broken(chain(&error), format!("lantern key remove {name}"))];
                Subject { name: name.clone(), path, key: None, problems }
            }
        });
    }
    let mut looked_at = subjects.len();
    for path in &args.paths {
        let mut files = Vec::new();
        list_files(path, &mut files)?;
        // The ring was looked at by name.
        files.retain(|file| !file.starts_with(ring.folder()));
        looked_at += files.len();
        subjects.extend(look_at(&files));
    }
    mark_duplicates(&mut subjects);
    subjects.retain(|subject| !subject.problems.is_empty());
    for subject in &mut subjects {
        subject.problems.sort_by_key(|problem| problem.level);
    }
    audit_report::print(&subjects, looked_at, json)?;
    Ok(if subjects.is_empty() { 0 } else { FOUND })
}

pub(super) fn broken(detail: String, mend: String) -> Problem {
    Problem { level: Level::Serious, kind: "broken", short: "broken", detail, mend }
}

/// What a key of the ring shows by itself.
pub(super) fn problems_of_entry(entry: &RingEntry) -> Vec<Problem> {
    let name = &entry.name;
    let mut problems = Vec::new();
    if entry.is_exposed() {
        problems.push(exposed(entry.mode, format!("chmod 600 {}", quoted(&entry.path))));
    }
    let passphrase = format!("lantern key passphrase {name}");
    problems.extend(protection_problem(&entry.sealed, &passphrase));
    problems.extend(algorithm_problem(&entry.public, &format!("lantern key rotate {name} MACHINE…")));
    problems
}

pub(super) fn exposed(mode: u32, mend: String) -> Problem {
    Problem {
        level: Level::Serious,
        kind: "exposed",
        short: "others can read it",
        detail: format!("others on this computer can read it (mode {mode:04o})"),
        mend,
    }
}

pub(super) fn protection_problem(sealed: &Sealed, mend: &str) -> Option<Problem> {
    if !sealed.is_protected() {
        return Some(Problem {
            level: Level::Serious,
            kind: "no-passphrase",
            short: "no passphrase",
            detail: "it has no passphrase: whoever reads the file can use it".into(),
            mend: mend.to_owned(),
        });
    }
    sealed.is_weakly_protected().then(|| Problem {
        level: Level::Serious,
        kind: "weak-protection",
        short: "weak protection",
        detail: format!(
            "a stolen copy is quickly searched: {}",
            sealed.describe_protection().unwrap_or_default()
        ),
        mend: mend.to_owned(),
    })
}

pub(super) fn algorithm_problem(key: &PublicKey, mend: &str) -> Option<Problem> {
    let PublicKey::Rsa { n, .. } = key else { return None };
    // Below 2048 is not read at all; NIST SP 800-57 lets 2048 end with the year 2030.
    (n.len() * 8 < 3072).then(|| Problem {
        level: Level::Minor,
        kind: "short-key",
        short: "short key",
        detail: format!("{} is on its way out (NIST SP 800-57: until 2030)", key.describe()),
        mend: mend.to_owned(),
    })
}

/// What the ring and the book say of a key.
fn problems_of_use(entry: &RingEntry, book: &MachineBook, oldest: Timestamp, max_age: u32) -> Vec<Problem> {
    let name = &entry.name;
    let mut problems = Vec::new();
    if entry.note.made.is_some_and(|made| made < oldest) {
        problems.push(Problem {
            level: Level::Minor,
            kind: "old",
            short: "old",
            detail: format!("it is older than {max_age} days"),
            mend: format!("lantern key rotate {name} MACHINE…"),
        });
    }
    if let Some(next) = &entry.note.replaced_by {
        problems.push(Problem {
            level: Level::Minor,
            kind: "replaced",
            short: "replaced",
            detail: format!("{next} takes its place, and it is still in the ring"),
            mend: format!("lantern key remove {name}"),
        });
    } else if entry.note.installed.is_empty() && book.users_of_key(name).next().is_none() {
        problems.push(Problem {
            level: Level::Minor,
            kind: "unused",
            short: "unused",
            detail: "no machine in the book names it, and lantern installed it nowhere".into(),
            mend: format!("lantern key remove {name}"),
        });
    }
    problems
}

/// The same key in two places has to be changed in two places.
fn mark_duplicates(subjects: &mut [Subject]) {
    let mut places: HashMap<Fingerprint, Vec<usize>> = HashMap::new();
    for (at, subject) in subjects.iter().enumerate() {
        if let Some(key) = &subject.key {
            places.entry(key.fingerprint()).or_default().push(at);
        }
    }
    for same in places.into_values().filter(|same| same.len() > 1) {
        // One copy stays, whatever is typed of what is said here: the one in the ring, else the first.
        let kept = same.iter().copied().find(|at| subjects.get(*at).is_some_and(Subject::is_in_ring));
        let kept = kept.or(same.first().copied());
        for &at in &same {
            let others: Vec<String> = same
                .iter()
                .filter(|other| **other != at)
                .filter_map(|other| Some(subjects.get(*other)?.name.clone()))
                .collect();
            let Some(subject) = subjects.get_mut(at) else { continue };
            let mend = match (subject.is_in_ring(), Some(at) == kept) {
                (true, _) => format!("lantern key show {}", subject.name),
                (false, true) => format!("lantern key import {} --move", quoted(&subject.path)),
                (false, false) => format!("rm {}", quoted(&subject.path)),
            };
            subject.problems.push(Problem {
                level: Level::Minor,
                kind: "duplicate",
                short: "duplicate",
                detail: format!("the same key: {}", others.join(", ")),
                mend,
            });
        }
    }
}

/// A path as it can be typed.
pub(super) fn quoted(path: &Path) -> String {
    let text = path.display().to_string();
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./~@+".contains(c);
    match text.chars().all(plain) {
        true => text,
        false => format!("'{}'", text.replace('\'', "'\\''")),
    }
}
