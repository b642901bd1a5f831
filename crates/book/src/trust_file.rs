//! Reading `trust.toml` no more often than it changes, and writing no more of it than is new.

use std::fs::File;
use std::io::{ErrorKind, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use crate::home::{MAX_FILE_LEN, append, read_text, write_atomically};
use crate::trust_draft::TrustDraft;
use crate::trust_ledger::{Ledger, RULE};
use crate::trust_seen::{Seen, end_of};
use crate::{BookError, Home, TrustStore};

const FILE: &str = "trust.toml";
const HEADER: &str = "# What each machine proved to be; what comes last of a machine counts. Written by lantern; change it with `lantern trust`.\n\n";

/// What was read last, for all who share a home in one process.
type LastRead = Mutex<TrustStore>;

impl TrustStore {
    /// Reads the store, or what is new of it; a missing file is an empty one.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn load(home: &Home) -> Result<Self, BookError> {
        load(home, false)
    }

    /// Reads a text as if it were the file at `path`.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn parse(path: &Path, text: &str) -> Result<Self, BookError> {
        let (ledger, _) = understood(path, text.to_owned())?;
        Ok(Self { ledger, ..Self::at(path.to_owned()) })
    }
}

/// The store as it is on disk. Without the lock, a text that may be in the middle of being written is read again with it.
fn load(home: &Home, has_lock: bool) -> Result<TrustStore, BookError> {
    if let Some(store) = read(home, has_lock)? {
        return Ok(store);
    }
    // Where nothing can be locked, nothing is written either.
    let _lock = home.lock().ok();
    Ok(read(home, true)?.unwrap_or_default())
}

/// The same, but for a text that may be in the middle of being written: nothing. Nobody waits for the lock in here, since whoever has it waits for
/// what is remembered.
fn read(home: &Home, is_whole: bool) -> Result<Option<TrustStore>, BookError> {
    let path = home.file(FILE);
    let forgetful = LastRead::default();
    let cached = home.memory::<LastRead>().unwrap_or(&forgetful);
    let mut cached = cached.lock().unwrap_or_else(PoisonError::into_inner);
    let io = || BookError::io("read", &path);
    let mut file = match File::open(&path) {
        Ok(file) => file,
        Err(error) if error.kind() == ErrorKind::NotFound => {
            *cached = TrustStore::at(path);
            return Ok(Some(cached.clone()));
        }
        Err(error) => return Err(io()(error)),
    };
    let metadata = file.metadata().map_err(io())?;
    if let Some(seen) = &cached.seen {
        if seen.is_as_before(&metadata) {
            return Ok(Some(cached.clone()));
        }
        if let Some(grown) = grown(&cached, seen, &mut file, &path)? {
            *cached = grown;
            return Ok(Some(cached.clone()));
        }
    }
    file.rewind().map_err(io())?;
    let text = read_text(&mut file, &path)?;
    if !is_whole && !text.is_empty() && !text.ends_with(RULE) {
        return Ok(None);
    }
    let metadata = file.metadata().map_err(io())?;
    let len = text.len() as u64;
    let end = end_of(text.as_bytes());
    let (ledger, is_ours) = understood(&path, text)?;
    // A file that changed while it was read is read again next time.
    let seen = (metadata.len() == len).then(|| Seen::of(&metadata, end, is_ours));
    *cached = TrustStore { path, ledger, seen, ..TrustStore::default() };
    Ok(Some(cached.clone()))
}

/// What a text says, and whether it is in our form.
fn understood(path: &Path, text: String) -> Result<(Ledger, bool), BookError> {
    let text = match Ledger::default().with(path, text)? {
        Ok(ledger) => return Ok((ledger, true)),
        Err(text) => text,
    };
    match Ledger::of_any(path, &text) {
        Ok(ledger) => Ok((ledger, false)),
        Err(error) => Err(cut_off(path, &text).unwrap_or(error)),
    }
}

/// What is wrong with a text that would be right up to its last record: whoever wrote that one was stopped in the middle, and reported no success.
fn cut_off(path: &Path, text: &str) -> Option<BookError> {
    let (whole, rest) = text.rsplit_once(RULE)?;
    let whole = format!("{whole}{RULE}");
    Ledger::of_any(path, &whole).ok().filter(|_| !rest.is_empty())?;
    let line = whole.lines().count() + 1;
    let message = format!("a record was cut off while it was written: line {line} and what follows can go");
    Some(BookError::Syntax { path: path.to_owned(), line, message })
}

/// The store with what was written behind what was read of it; nothing when that is not all that happened to the file.
fn grown(
    store: &TrustStore,
    seen: &Seen,
    file: &mut File,
    path: &Path,
) -> Result<Option<TrustStore>, BookError> {
    let io = || BookError::io("read", path);
    let before = file.metadata().map_err(io())?;
    if !seen.may_have_grown_to(&before) || before.len() > MAX_FILE_LEN {
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
    let Ok(ledger) = store.ledger.clone().with(path, new.to_owned())? else { return Ok(None) };
    let seen = Seen::of(&metadata, end_of(&bytes), true);
    Ok(Some(TrustStore { path: path.to_owned(), ledger, seen: Some(seen), index: store.index.clone() }))
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

fn save(path: &Path, draft: &TrustDraft) -> Result<(), BookError> {
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
