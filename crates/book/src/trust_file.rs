//! Reading `trust.toml` no more often than it changes, and writing no more of it than is new.

use std::fs::{File, Metadata};
use std::io::{ErrorKind, Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use crate::home::{MAX_FILE_LEN, append, read_or_empty, write_atomically};
use crate::trust_draft::TrustDraft;
use crate::trust_ledger::{Ledger, RULE};
use crate::{BookError, Home, TrustStore};

const FILE: &str = "trust.toml";
const HEADER: &str = "# What each machine proved to be; what comes last of a machine counts. Written by lantern; change it with `lantern trust`.\n\n";
/// How much of what was read is read again, to see that what is new was written behind it, in bytes.
const OVERLAP: u64 = 4096;

/// What was read last, for all who share a home in one process.
#[derive(Debug, Clone, Default)]
pub(crate) struct TrustCache(Arc<Mutex<TrustStore>>);

/// Homes are the same whatever was read of them.
impl PartialEq for TrustCache {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for TrustCache {}

/// What tells one state of a file from another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Seen {
    file: (u64, u64, Option<SystemTime>),
    len: u64,
    modified: (i64, i64),
    /// Its last bytes.
    end: Vec<u8>,
    /// Whether more can be written behind it: it is in our form, to its end.
    is_ours: bool,
}

impl Seen {
    fn is_as_before(&self, metadata: &Metadata) -> bool {
        self.file == identity(metadata)
            && self.len == metadata.len()
            && self.modified == (metadata.mtime(), metadata.mtime_nsec())
    }
}

fn identity(metadata: &Metadata) -> (u64, u64, Option<SystemTime>) {
    (metadata.dev(), metadata.ino(), metadata.created().ok())
}

/// The store as it is on disk. Without the lock, a text that may be in the middle of being written is read again with it.
pub(crate) fn load(home: &Home, has_lock: bool) -> Result<TrustStore, BookError> {
    let path = home.file(FILE);
    let mut cached = home.trust.0.lock().unwrap_or_else(PoisonError::into_inner);
    let io = || BookError::io("read", &path);
    let file = match File::open(&path) {
        Ok(file) => file,
        Err(error) if error.kind() == ErrorKind::NotFound => {
            *cached = TrustStore::at(path);
            return Ok(cached.clone());
        }
        Err(error) => return Err(io()(error)),
    };
    let metadata = file.metadata().map_err(io())?;
    if let Some(seen) = &cached.seen {
        if seen.is_as_before(&metadata) {
            return Ok(cached.clone());
        }
        if let Some(grown) = grown(&cached, seen, file, &path)? {
            *cached = grown;
            return Ok(cached.clone());
        }
    }
    let mut text = read_or_empty(&path)?;
    let mut lock = None;
    if !has_lock && !text.is_empty() && !text.ends_with(RULE) {
        // Where nothing can be locked, nothing is written either.
        lock = home.lock().ok();
        text = read_or_empty(&path)?;
    }
    let metadata = File::open(&path).and_then(|file| file.metadata());
    drop(lock);
    let (end, len) = (end_of(&text), text.len() as u64);
    let (ledger, is_ours) = match Ledger::default().with(&path, &text)? {
        Some(ledger) => (ledger, true),
        None => (Ledger::of_any(&path, &text)?, false),
    };
    // A file that changed while it was read is read again next time.
    let seen = metadata.ok().filter(|metadata| metadata.len() == len).map(|metadata| Seen {
        file: identity(&metadata),
        len,
        modified: (metadata.mtime(), metadata.mtime_nsec()),
        end,
        is_ours,
    });
    *cached = TrustStore { path, ledger, seen, ..TrustStore::default() };
    Ok(cached.clone())
}

/// The store with what was written behind what was read of it; nothing when that is not all that happened to the file.
fn grown(
    store: &TrustStore,
    seen: &Seen,
    mut file: File,
    path: &Path,
) -> Result<Option<TrustStore>, BookError> {
    let io = || BookError::io("read", path);
    let before = file.metadata().map_err(io())?;
    if !seen.is_ours
        || seen.file != identity(&before)
        || before.len() <= seen.len
        || before.len() > MAX_FILE_LEN
    {
        return Ok(None);
    }
    let mut bytes = Vec::new();
    file.seek(SeekFrom::Start(seen.len - seen.end.len() as u64)).map_err(io())?;
    file.by_ref().take(MAX_FILE_LEN).read_to_end(&mut bytes).map_err(io())?;
    let metadata = file.metadata().map_err(io())?;
    let Some(Ok(new)) = bytes.strip_prefix(&seen.end[..]).map(|new| str::from_utf8(new)) else {
        return Ok(None);
    };
    let len = seen.len + new.len() as u64;
    if !new.ends_with(RULE) || metadata.len() != len {
        return Ok(None);
    }
    let Some(ledger) = store.ledger.clone().with(path, new)? else { return Ok(None) };
    let text = str::from_utf8(&bytes).unwrap_or_default();
    let seen =
        Seen { len, modified: (metadata.mtime(), metadata.mtime_nsec()), end: end_of(text), ..seen.clone() };
    Ok(Some(TrustStore { path: path.to_owned(), ledger, seen: Some(seen), index: store.index.clone() }))
}

fn end_of(text: &str) -> Vec<u8> {
    let bytes = text.as_bytes();
    bytes[bytes.len().saturating_sub(OVERLAP as usize)..].to_vec()
}

/// A change under the lock. Nothing is written when it changes nothing; what is new is written behind the rest where that is possible.
pub(crate) fn edit<T>(
    home: &Home,
    change: impl FnOnce(&mut TrustDraft) -> Result<T, BookError>,
) -> Result<T, BookError> {
    let _lock = home.lock()?;
    let store = load(home, true)?;
    let mut draft = TrustDraft::of(store);
    let outcome = change(&mut draft)?;
    save(&home.file(FILE), &draft)?;
    Ok(outcome)
}

fn save(path: &PathBuf, draft: &TrustDraft) -> Result<(), BookError> {
    if draft.is_unchanged() {
        return Ok(());
    }
    let store = draft.store();
    let new = draft.new_text()?;
    match (&store.seen, new) {
        (Some(seen), Some(new)) if seen.is_ours && seen.len > 0 && !store.ledger.is_mostly_replaced() => {
            append(path, seen.len, new.as_bytes())
        }
        _ => write_atomically(path, format!("{HEADER}{}", draft.whole_text()?).as_bytes(), 0o644),
    }
}
