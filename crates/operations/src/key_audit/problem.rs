//! What can be wrong with a key.

use jiff::SignedDuration;
use std::path::PathBuf;

use lantern_book::{KeySummary, RingEntry};
use lantern_keys::PublicKey;
use lantern_keys::container::Sealed;

use super::AuditScope;

/// RSA keys below this are on their way out, in bits: NIST SP 800-57 lets 2048 end with the year 2030; below that none is read at all.
const SHORT_RSA_BITS: usize = 3072;

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// Somebody else could use the key, or soon can.
    Serious,
    /// Worth knowing.
    Minor,
}

/// A place that public halves are handed out from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PublicPlace {
    /// A file whose name says that it is public.
    PublicFile,
    /// A list of the keys that may log in.
    LoginList,
}

/// One thing that is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Problem {
    /// It cannot be read.
    Broken {
        /// Why.
        why: String,
    },
    /// Others on this computer can read it.
    Exposed {
        /// Its permission bits.
        mode: u32,
    },
    /// Whoever reads the file can use it.
    NoPassphrase,
    /// A stolen copy is quickly searched.
    WeakProtection {
        /// What protects it.
        how: String,
    },
    /// It is of a kind that nobody should use any more.
    WeakAlgorithm {
        /// Why.
        why: String,
    },
    /// A private key where public ones belong.
    Misplaced(PublicPlace),
    /// It is short.
    ShortKey {
        /// What it is.
        what: String,
    },
    /// It is old.
    Old {
        /// Older than so many days.
        days: u32,
    },
    /// Another one takes its place.
    Replaced {
        /// Which.
        by: String,
        /// The machines that still name it, or that it is still installed on.
        in_use: Vec<String>,
    },
    /// The public file beside it is that of another key.
    OtherHalf {
        /// Which file.
        public: PathBuf,
    },
    /// A private key in a form that we don't open.
    Foreign {
        /// What it is.
        what: String,
        /// What to do about that.
        why: &'static str,
        /// Whether whoever reads the file can use it.
        is_open: bool,
    },
    /// No machine uses it.
    Unused,
    /// The same key stands elsewhere.
    Duplicate {
        /// Where.
        others: Vec<String>,
        /// Whether the file holds nothing else and is byte for byte one that stays.
        is_spare: bool,
        /// Whether the ring has the key.
        in_ring: bool,
    },
    /// Its private file is not there any more.
    Gone,
    /// The file cannot be read by us.
    Unreadable {
        /// Why.
        why: String,
    },
}

impl Problem {
    /// How bad it is.
    pub fn level(&self) -> Level {
        match self {
            Self::Broken { .. }
            | Self::Gone
            | Self::Exposed { .. }
            | Self::NoPassphrase
            | Self::WeakProtection { .. }
            | Self::WeakAlgorithm { .. }
            | Self::Foreign { is_open: true, .. }
            | Self::Misplaced(_) => Level::Serious,
            Self::ShortKey { .. }
            | Self::Old { .. }
            | Self::Replaced { .. }
            | Self::Unused
            | Self::OtherHalf { .. }
            | Self::Foreign { is_open: false, .. }
            | Self::Duplicate { .. }
            | Self::Unreadable { .. } => Level::Minor,
        }
    }

    /// A name for scripts.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Broken { .. } => "broken",
            Self::Gone => "gone",
            Self::Exposed { .. } => "exposed",
            Self::NoPassphrase => "no-passphrase",
            Self::WeakProtection { .. } => "weak-protection",
            Self::WeakAlgorithm { .. } => "weak-algorithm",
            Self::Misplaced(_) => "misplaced",
            Self::ShortKey { .. } => "short-key",
            Self::Old { .. } => "old",
            Self::Replaced { .. } => "replaced",
            Self::Unused => "unused",
            Self::OtherHalf { .. } => "other-half",
            Self::Foreign { .. } => "foreign",
            Self::Duplicate { .. } => "duplicate",
            Self::Unreadable { .. } => "unreadable",
        }
    }
}

/// What a key of the ring shows by itself.
pub fn problems_of_summary(key: &KeySummary) -> Vec<Problem> {
    let exposed = key.is_exposed().then_some(Problem::Exposed { mode: key.mode });
    let closed = match &key.protection {
        None => Some(Problem::NoPassphrase),
        Some(how) => key.is_weakly_protected.then(|| Problem::WeakProtection { how: how.clone() }),
    };
    // Only of RSA keys is the size to be judged.
    let short = key.algorithm.starts_with("RSA").then(|| key.public()).flatten().as_ref().and_then(algorithm);
    exposed.into_iter().chain(closed).chain(short).collect()
}

/// What is wrong with how a key is closed.
pub(super) fn protection(sealed: &Sealed) -> Option<Problem> {
    if !sealed.is_protected() {
        return Some(Problem::NoPassphrase);
    }
    sealed
        .is_weakly_protected()
        .then(|| Problem::WeakProtection { how: sealed.describe_protection().unwrap_or_default() })
}

/// What is wrong with what a key is.
pub(super) fn algorithm(key: &PublicKey) -> Option<Problem> {
    let PublicKey::Rsa { n, .. } = key else { return None };
    (n.len() * 8 < SHORT_RSA_BITS).then(|| Problem::ShortKey { what: key.describe() })
}

/// What the ring and the book say of a key.
pub(super) fn problems_of_use(entry: &RingEntry, users: &[&str], scope: &AuditScope) -> Vec<Problem> {
    let mut problems = Vec::new();
    let oldest = scope.now - SignedDuration::from_hours(24 * i64::from(scope.max_age_days));
    if entry.note.made.is_some_and(|made| made < oldest) {
        problems.push(Problem::Old { days: scope.max_age_days });
    }
    if let Some(next) = &entry.note.replaced_by {
        let installed = entry.note.installed.iter().map(|place| place.machine.clone());
        let mut in_use: Vec<String> = users.iter().map(|user| (*user).to_owned()).chain(installed).collect();
        in_use.sort();
        in_use.dedup();
        problems.push(Problem::Replaced { by: next.clone(), in_use });
    } else if entry.note.installed.is_empty() && users.is_empty() {
        problems.push(Problem::Unused);
    }
    problems
}
