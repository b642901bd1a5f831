//! `key-overview`: what a listing of the ring needs of each key, so that ten thousand files need not be opened and checked for it. A cache of
//! public things: each line counts as long as the two files of its key are those that it was made from, told by number, size and times.

use std::fs::{self, Metadata};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::thread;

use base64ct::{Base64, Encoding};
use lantern_keys::PublicKey;

use crate::home::{read_or_empty, write_atomically};
use crate::{BookError, Home, KeyNote};

const FILE: &str = "key-overview";
/// The first line. Another number is another form, and is made anew.
const HEADING: &str = "brass-lantern key-overview 1";
/// Fewest files for which it pays to ask on several processors.
const MANY: usize = 1000;

/// One key of the ring as a listing shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeySummary {
    /// Its name.
    pub name: String,
    /// What it is: "Ed25519".
    pub algorithm: String,
    /// Its fingerprint, as text.
    pub fingerprint: String,
    /// The blob of the public half in base64, as lines of public keys have it.
    pub blob: String,
    /// The comment of the public file.
    pub comment: String,
    /// The container of the private file.
    pub container: String,
    /// Cipher and derivation in words; nothing without a passphrase.
    pub protection: Option<String>,
    /// Whether its passphrase protects it less than it should.
    pub is_weakly_protected: bool,
    /// The permission bits of the private file.
    pub mode: u32,
    /// What the ring notes of it.
    pub note: KeyNote,
}

impl KeySummary {
    /// The public half.
    pub fn public(&self) -> Option<PublicKey> {
        PublicKey::decode(&Base64::decode_vec(&self.blob).ok()?).ok()
    }

    /// Whether it is this key.
    pub fn is(&self, key: &PublicKey) -> bool {
        self.blob == base64_of(key)
    }

    /// Whether others than the owner could read the private file.
    pub fn is_exposed(&self) -> bool {
        self.mode & 0o077 != 0
    }

    /// Whether a passphrase protects it.
    pub fn is_protected(&self) -> bool {
        self.protection.is_some()
    }
}

/// The blob of a key as [`KeySummary::blob`] has it.
pub(crate) fn base64_of(key: &PublicKey) -> String {
    Base64::encode_string(&key.encode())
}

/// Files as they were: number, size, and when content and entry changed, for each; in one number, since they are only compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Stamp(u64);

impl Stamp {
    /// That of some files, those that are missing among them.
    pub(crate) fn of(files: &[Option<&Metadata>]) -> Self {
        let mark = |file: &Metadata| {
            [
                i64::try_from(file.ino()).unwrap_or_default(),
                i64::try_from(file.len()).unwrap_or_default(),
                file.mtime(),
                file.mtime_nsec(),
                file.ctime(),
                file.ctime_nsec(),
            ]
        };
        let mut hasher = DefaultHasher::new();
        files.iter().for_each(|file| file.map(mark).hash(&mut hasher));
        Self(hasher.finish())
    }

    /// That of one file.
    pub(crate) fn of_file(path: &Path) -> Self {
        Self::of(&[fs::metadata(path).ok().as_ref()])
    }
}

/// For each key, by the paths of its private and its public file, their stamp and the permission bits of the first; nothing when that is no file.
pub(crate) fn stamps(paths: &[(PathBuf, PathBuf)]) -> Vec<Option<(Stamp, u32)>> {
    let look = |(private, public): &(PathBuf, PathBuf)| {
        let metadata = fs::metadata(private).ok().filter(Metadata::is_file)?;
        let beside = fs::metadata(public).ok();
        Some((Stamp::of(&[Some(&metadata), beside.as_ref()]), metadata.permissions().mode() & 0o777))
    };
    let workers = if paths.len() < MANY { 1 } else { thread::available_parallelism().map_or(1, usize::from) };
    let share = paths.len().div_ceil(workers).max(1);
    thread::scope(|scope| {
        let look_at = |paths: &[(PathBuf, PathBuf)]| paths.iter().map(look).collect::<Vec<_>>();
        let running: Vec<_> =
            paths.chunks(share).map(|paths| (paths.len(), scope.spawn(move || look_at(paths)))).collect();
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
