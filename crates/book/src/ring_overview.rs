//! `key-overview`: what a listing of the ring needs of each key, so that ten thousand files need not be opened and checked for it. A cache of
//! public things: each line counts as long as the two files of its key are those that it was made from, told by number, size and times.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::Path;
use std::thread;

use lantern_keys::PublicKey;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, Stat, stat, statat};

use crate::home::{read_or_empty, write_atomically};
use crate::key_ring::{RING_FILE, private_file, public_file};
use crate::key_summary::base64_of;
use crate::{BookError, Home, KeyNote, KeyRing, KeySummary};

const FILE: &str = "key-overview";
/// The first line. Another number is another form, and is made anew.
const HEADING: &str = "brass-lantern key-overview 1";
/// From so many keys on, what a listing needs is kept beside.
const LARGE_RING: usize = 50;
/// Fewest files for which it pays to ask on several processors.
const MANY: usize = 1000;

/// A name of the ring, and what a listing shows of its key or why it shows nothing.
pub type Listed = (String, Result<KeySummary, BookError>);

impl KeyRing {
    /// What a listing needs of every key, in order of their names, each with its own success or failure. In a large ring only
    /// files that changed since the last time are read.
    ///
    /// # Errors
    /// [`BookError::Io`] when the folder cannot be listed.
    pub fn summaries(&self) -> Result<Vec<Listed>, BookError> {
        let names = self.names()?;
        if names.len() < LARGE_RING {
            let mut notes = self.load_notes()?.keys;
            let read = |name: String| {
                let note = notes.remove(&name);
                let entry = self.read(name.clone(), self.private_path(&name), note);
                (name, entry.map(|entry| entry.summary()))
            };
            return Ok(names.into_iter().map(read).collect());
        }
        let files: Vec<(String, String)> =
            names.iter().map(|name| (private_file(name), public_file(name))).collect();
        // Before the files, so that what is written meanwhile is seen as new the next time.
        let noted_at = Stamp::of_file(&self.folder().join(RING_FILE));
        let stamps = stamps(&self.folder(), &files);
        let noted = Overview::load(&self.home, noted_at);
        let mut is_new = noted.is_none();
        let mut noted = noted.unwrap_or_default();
        let mut notes = None;
        let mut summaries = Vec::with_capacity(names.len());
        for (name, stamp) in names.into_iter().zip(&stamps) {
            let known = stamp.and_then(|(stamp, mode)| Some((noted.find(&name, stamp)?, mode)));
            let summary = match known {
                Some((summary, mode)) => Ok(KeySummary { mode, ..summary }),
                None => {
                    is_new |= stamp.is_some();
                    let notes = match &mut notes {
                        Some(notes) => notes,
                        none => none.insert(self.load_notes()?.keys),
                    };
                    let note = notes.remove(&name);
                    self.read(name.clone(), self.private_path(&name), note).map(|entry| entry.summary())
                }
            };
            summaries.push((name, summary));
        }
        if is_new {
            let good = summaries.iter().zip(&stamps);
            let good = good.filter_map(|((_, summary), stamp)| Some(((*stamp)?.0, summary.as_ref().ok()?)));
            // Where it cannot be written, the next listing takes as long as this one.
            let _ = Overview::save(&self.home, noted_at, good);
        }
        Ok(summaries)
    }

    /// The name under which the ring has this key.
    ///
    /// # Errors
    /// As [`Self::summaries`].
    pub fn name_of(&self, key: &PublicKey) -> Result<Option<String>, BookError> {
        let blob = base64_of(key);
        let holds =
            |summary: &Result<KeySummary, BookError>| summary.as_ref().is_ok_and(|key| key.blob == blob);
        Ok(self.summaries()?.into_iter().find(|(_, summary)| holds(summary)).map(|(name, _)| name))
    }
}

/// Files as they were: number, size, and when content and entry changed, for each; in one number, since they are only compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Stamp(u64);

impl Stamp {
    /// That of some files, those that are missing among them.
    fn of(files: &[Option<&Stat>]) -> Self {
        let mut hasher = DefaultHasher::new();
        for file in files {
            file.map(|file| {
                let (number, len) = (file.st_ino, file.st_size);
                (number, len, file.st_mtime, file.st_mtime_nsec, file.st_ctime, file.st_ctime_nsec)
            })
            .hash(&mut hasher);
        }
        Self(hasher.finish())
    }

    /// That of one file.
    pub(crate) fn of_file(path: &Path) -> Self {
        Self::of(&[stat(path).ok().as_ref()])
    }
}

/// For each key, by the names of its private and its public file in a folder, their stamp and the permission bits of the first; nothing when that
/// is no file. Asked by name in the open folder, which spares the way there ten thousand times.
pub(crate) fn stamps(folder: &Path, names: &[(String, String)]) -> Vec<Option<(Stamp, u32)>> {
    let open = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let Ok(folder) = rustix::fs::open(folder, open, Mode::empty()) else { return vec![None; names.len()] };
    let folder = &folder;
    let look = |(private, public): &(String, String)| {
        let is_file = |stat: &Stat| FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile;
        let private = statat(folder, private, AtFlags::empty()).ok().filter(is_file)?;
        let public = statat(folder, public, AtFlags::empty()).ok();
        Some((Stamp::of(&[Some(&private), public.as_ref()]), private.st_mode & 0o777))
    };
    let workers = if names.len() < MANY { 1 } else { thread::available_parallelism().map_or(1, usize::from) };
    let share = names.len().div_ceil(workers).max(1);
    thread::scope(|scope| {
        let look_at = |names: &[(String, String)]| names.iter().map(look).collect::<Vec<_>>();
        let running: Vec<_> =
            names.chunks(share).map(|names| (names.len(), scope.spawn(move || look_at(names)))).collect();
        let join = |(len, worker): (usize, thread::ScopedJoinHandle<'_, Vec<_>>)| {
            worker.join().unwrap_or_else(|_| vec![None; len])
        };
        running.into_iter().flat_map(join).collect()
    })
}

/// What was noted, in the order of names.
#[derive(Debug, Default)]
pub(crate) struct Overview {
    text: String,
    at: usize,
}

impl Overview {
    /// Reads it, when the notes of the ring bear this stamp; what cannot be read was not noted.
    pub(crate) fn load(home: &Home, notes: Stamp) -> Option<Self> {
        let text = read_or_empty(&home.file(FILE)).unwrap_or_default();
        let at = heading(notes).len();
        text.starts_with(&heading(notes)).then_some(Self { text, at })
    }

    /// What is noted of a key whose files bear this stamp. Names come in order.
    pub(crate) fn find(&mut self, name: &str, stamp: Stamp) -> Option<KeySummary> {
        while let Some(rest) = self.text.get(self.at..).filter(|rest| !rest.is_empty()) {
            let line = rest.split_inclusive('\n').next()?;
            let noted = line.split('\t').next().unwrap_or_default();
            if noted > name {
                return None;
            }
            self.at += line.len();
            if noted == name {
                return read_line(line.trim_end_matches('\n'), stamp);
            }
        }
        None
    }

    /// Writes it down for the next time.
    ///
    /// # Errors
    /// What writing runs into; nothing depends on it.
    pub(crate) fn save<'a>(
        home: &Home,
        notes: Stamp,
        entries: impl Iterator<Item = (Stamp, &'a KeySummary)>,
    ) -> Result<(), BookError> {
        let mut text = heading(notes);
        entries.for_each(|(stamp, summary)| push_line(&mut text, stamp, summary));
        write_atomically(&home.file(FILE), text.as_bytes(), 0o600)
    }
}

fn heading(Stamp(notes): Stamp) -> String {
    format!("{HEADING} {notes:016x}\n")
}

fn push_line(text: &mut String, Stamp(stamp): Stamp, summary: &KeySummary) {
    let note = match summary.note == KeyNote::default() {
        true => String::new(),
        false => serde_json::to_string(&summary.note).unwrap_or_default(),
    };
    let comment = summary.comment.replace('\\', "\\\\").replace('\t', "\\t").replace('\n', "\\n");
    let fields = [
        summary.name.as_str(),
        &format!("{stamp:016x}"),
        &summary.algorithm,
        &summary.container,
        if summary.is_weakly_protected { "weak" } else { "" },
        summary.protection.as_deref().unwrap_or_default(),
        &summary.fingerprint,
        &summary.blob,
        &note,
        &comment,
    ];
    text.push_str(&fields.join("\t"));
    text.push('\n');
}

fn read_line(line: &str, Stamp(stamp): Stamp) -> Option<KeySummary> {
    let fields: Vec<&str> = line.splitn(10, '\t').collect();
    let [name, noted, algorithm, container, weak, protection, fingerprint, blob, note, comment] =
        <[&str; 10]>::try_from(fields).ok()?;
    if u64::from_str_radix(noted, 16) != Ok(stamp) {
        return None;
    }
    Some(KeySummary {
        name: name.to_owned(),
        algorithm: algorithm.to_owned(),
        fingerprint: fingerprint.to_owned(),
        blob: blob.to_owned(),
        comment: if comment.contains('\\') { unescape(comment) } else { comment.to_owned() },
        container: container.to_owned(),
        protection: Some(protection).filter(|words| !words.is_empty()).map(str::to_owned),
        is_weakly_protected: weak == "weak",
        mode: 0,
        note: if note.is_empty() { KeyNote::default() } else { serde_json::from_str(note).ok()? },
    })
}

fn unescape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        let escaped = if c == '\\' { chars.next() } else { None };
        match escaped {
            Some('t') => out.push('\t'),
            Some('n') => out.push('\n'),
            Some(escaped) => out.push(escaped),
            None => out.push(c),
        }
    }
    out
}
