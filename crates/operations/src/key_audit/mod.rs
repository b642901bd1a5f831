//! What is wrong with keys: those of the ring, and those in files outside of it.

mod files;
mod look;
mod problem;

use std::collections::{HashMap, HashSet};
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_book::{BookError, Home, KeyRing, MachineBook};
use lantern_keys::{Fingerprint, PublicKey};

use crate::chain;

pub use files::{MAX_FILES, Unseen};
pub use problem::{Level, Problem, PublicPlace, problems_of_summary};

/// What is looked at.
#[derive(Debug, Clone)]
pub struct AuditScope {
    /// Folders and files besides the ring.
    pub paths: Vec<PathBuf>,
    /// After how many days a key of the ring is old.
    pub max_age_days: u32,
    /// The present.
    pub now: Timestamp,
}

/// Why nothing could be looked at.
#[derive(Debug, thiserror::Error)]
pub enum AuditError {
    /// Ring or book.
    #[error(transparent)]
    Book(#[from] BookError),
    /// A folder or file that was named.
    #[error("cannot look through {}", path.display())]
    Path {
        /// Which.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// There is too much below a folder.
    #[error("{} has more than {MAX_FILES} files below it", path.display())]
    TooMany {
        /// Which.
        path: PathBuf,
    },
}

/// Where a key stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// In the ring.
    InRing,
    /// In a file of its own.
    InFile,
}

/// A key or a file, and what is wrong with it.
#[derive(Debug, Clone)]
pub struct Subject {
    /// Where it stands.
    pub standing: Standing,
    /// Name in the ring, or path.
    pub name: String,
    /// The file.
    pub path: PathBuf,
    /// The public half, where it shows.
    pub key: Option<PublicKey>,
    /// Whether nothing but this private key is in the file.
    pub is_alone: bool,
    /// The SHA-256 of the whole file; none in the ring.
    digest: Option<Fingerprint>,
    /// The worst first.
    pub problems: Vec<Problem>,
}

impl Subject {
    /// A key of the ring.
    pub fn in_ring(name: &str, path: PathBuf, key: Option<PublicKey>, problems: Vec<Problem>) -> Self {
        let (standing, name) = (Standing::InRing, name.to_owned());
        Self { standing, name, path, key, is_alone: true, digest: None, problems }
    }

    /// A file outside of it.
    pub fn in_file(path: &Path, is_alone: bool, problems: Vec<Problem>) -> Self {
        let (standing, name, path) = (Standing::InFile, path.display().to_string(), path.to_owned());
        Self { standing, name, path, key: None, is_alone, digest: None, problems }
    }
}

/// What was found.
#[derive(Debug)]
pub struct KeyAudit {
    /// How many keys and files were looked at.
    pub looked_at: usize,
    /// What was not, and why.
    pub unseen: Vec<(PathBuf, Unseen)>,
    /// Those that something is wrong with.
    pub subjects: Vec<Subject>,
}

/// Looks at the ring and at what the scope says besides. Nothing is opened, nobody is asked, nothing is changed.
///
/// # Errors
/// See [`AuditError`].
pub fn audit_keys(home: &Home, scope: &AuditScope) -> Result<KeyAudit, AuditError> {
    let ring = KeyRing::new(home);
    let book = MachineBook::load(home)?;
    let users = book.users_of_keys();
    let users_of = |key: &str| users.get(key).map(Vec::as_slice).unwrap_or_default();
    let mut subjects: Vec<Subject> = ring
        .names()?
        .iter()
        .map(|name| match ring.get(name) {
            Ok(entry) => {
                let mut problems = problems_of_summary(&entry.summary());
                problems.extend(problem::problems_of_use(&entry, users_of(&entry.name), scope));
                let beside = look::other_half_beside(&entry.path, &entry.public);
                problems.extend(beside.map(|public| Problem::OtherHalf { public }));
                Subject::in_ring(name, entry.path, Some(entry.public), problems)
            }
            Err(error) => {
                let problems = vec![Problem::Broken { why: chain(&error) }];
                Subject::in_ring(name, ring.private_path(name), None, problems)
            }
        })
        .collect();
    subjects.extend(ring.lost()?.into_iter().map(|(name, public)| {
        Subject::in_ring(&name, ring.private_path(&name), Some(public), vec![Problem::Gone])
    }));
    // The ring was looked at by name; its files are those, by whatever path one comes to them.
    let listed = files::list(&scope.paths, files::identities(&ring.folder()))?;
    let looked_at = subjects.len() + listed.files.len();
    subjects.extend(look::look_at(&listed.files));
    mark_duplicates(&mut subjects);
    subjects.retain(|subject| !subject.problems.is_empty());
    for subject in &mut subjects {
        subject.problems.sort_by_key(Problem::level);
    }
    Ok(KeyAudit { looked_at, unseen: listed.unseen, subjects })
}

/// The same key in two places has to be changed in two places. Only one that is byte for byte another file that stays, and holds nothing
/// else, is called spare: whatever else is true of the two, nothing is lost with it.
fn mark_duplicates(subjects: &mut [Subject]) {
    let mut places: HashMap<Fingerprint, Vec<usize>> = HashMap::new();
    for (at, subject) in subjects.iter().enumerate() {
        if let Some(key) = &subject.key {
            places.entry(key.fingerprint()).or_default().push(at);
        }
    }
    for same in places.into_values().filter(|same| same.len() > 1) {
        let mut kept: HashSet<Fingerprint> = HashSet::new();
        let in_ring = same.iter().filter_map(|at| subjects.get(*at));
        let in_ring = in_ring.into_iter().any(|subject| subject.standing == Standing::InRing);
        for &at in &same {
            let others = same.iter().filter(|other| **other != at);
            let others = others.filter_map(|other| Some(subjects.get(*other)?.name.clone())).collect();
            if let Some(subject) = subjects.get_mut(at) {
                let is_first = subject.digest.is_none_or(|digest| kept.insert(digest));
                let is_spare = !is_first && subject.is_alone;
                subject.problems.push(Problem::Duplicate { others, is_spare, in_ring });
            }
        }
    }
}
