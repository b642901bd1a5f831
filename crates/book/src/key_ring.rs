//! The key ring: `keys/NAME.key` and `keys/NAME.pub` for each key, and `keys/ring.toml` with what they cannot say.

use std::fs;
use std::path::{Path, PathBuf};

use lantern_keys::container::{PrivateContainer, Protect, Sealed};
use lantern_keys::{KeyError, PrivateKey, PublicKey, RandomSource, public_line};

use crate::check::check_name_of;
use crate::home::{
    TEMPORARY_PREFIX, create_private_folder, read_or_empty, read_toml, remove_if_there, write_atomically,
};
use crate::key_file::{proven_private, read_sealed};
use crate::key_summary::{KeySummary, base64_of};
use crate::ring_note::{KeyNote, RingForm};
use crate::{BookError, Home, natural};

const FOLDER: &str = "keys";
pub(crate) const RING_FILE: &str = "ring.toml";
const PRIVATE_SUFFIX: &str = ".key";

/// The key ring of one home.
#[derive(Debug, Clone)]
pub struct KeyRing {
    pub(crate) home: Home,
}

/// One key of the ring, as far as it can be read without its passphrase.
#[derive(Debug)]
pub struct RingEntry {
    /// Its name.
    pub name: String,
    /// The private file.
    pub path: PathBuf,
    /// The parsed container, still closed.
    pub sealed: Sealed,
    /// The public half.
    pub public: PublicKey,
    /// The comment of the public file.
    pub comment: String,
    /// What the ring notes of it.
    pub note: KeyNote,
    /// The permission bits of the private file.
    pub mode: u32,
}

impl RingEntry {
    /// Whether others than the owner could read the private file.
    pub fn is_exposed(&self) -> bool {
        self.mode & 0o077 != 0
    }

    /// What a listing shows of it.
    pub fn summary(&self) -> KeySummary {
        KeySummary {
            name: self.name.clone(),
            algorithm: self.public.describe(),
            fingerprint: self.public.fingerprint().to_string(),
            blob: base64_of(&self.public),
            comment: self.comment.clone(),
            container: self.sealed.container().name().to_owned(),
            protection: self.sealed.describe_protection(),
            is_weakly_protected: self.sealed.is_weakly_protected(),
            mode: self.mode,
            note: self.note.clone(),
        }
    }
}

pub(crate) fn private_file(name: &str) -> String {
    [name, PRIVATE_SUFFIX].concat()
}

pub(crate) fn public_file(name: &str) -> String {
    [name, ".pub"].concat()
}

impl KeyRing {
    /// The ring of this home.
    pub fn new(home: &Home) -> Self {
        Self { home: home.clone() }
    }

    /// The folder of the key files.
    pub fn folder(&self) -> PathBuf {
        self.home.file(FOLDER)
    }

    /// Path of the private file of the key with this name.
    pub fn private_path(&self, name: &str) -> PathBuf {
        self.folder().join(private_file(name))
    }

    /// Path of the public file of the key with this name.
    pub fn public_path(&self, name: &str) -> PathBuf {
        self.folder().join(public_file(name))
    }

    /// The names in the ring, in order.
    ///
    /// # Errors
    /// [`BookError::Io`].
    pub fn names(&self) -> Result<Vec<String>, BookError> {
        let folder = self.folder();
        let entries = match fs::read_dir(&folder) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            other => other.map_err(BookError::io("list", &folder))?,
        };
        let mut names = Vec::new();
        for entry in entries {
            let name = entry.map_err(BookError::io("list", &folder))?.file_name();
            if let Some(name) = name.to_str().and_then(|name| name.strip_suffix(PRIVATE_SUFFIX)) {
                names.push(name.to_owned());
            }
        }
        names.sort_by(|one, other| natural(one, other));
        Ok(names)
    }

    /// Keys of which only the public half is left: by name, with that half. What a rename that was killed left behind is none, since the key
    /// itself is there under another name.
    ///
    /// # Errors
    /// As [`Self::summaries`].
    pub fn lost(&self) -> Result<Vec<(String, PublicKey)>, BookError> {
        let files = fs::read_dir(self.folder()).into_iter().flatten().filter_map(Result::ok);
        let mut lost = Vec::new();
        for file in files {
            let name = file.file_name();
            let Some(name) = name.to_str().and_then(|name| name.strip_suffix(".pub")) else { continue };
            if self.private_path(name).exists() {
                continue;
            }
            let line = public_line::parse(&read_or_empty(&self.public_path(name))?).ok();
            if let Some((public, _)) = line
                && self.name_of(&public)?.is_none()
            {
                lost.push((name.to_owned(), public));
            }
        }
        lost.sort_by(|(one, _), (other, _)| natural(one, other));
        Ok(lost)
    }

    /// Reads one key.
    ///
    /// # Errors
    /// [`BookError::Unknown`] with the nearest name; [`BookError::Key`] when the file is no good.
    pub fn get(&self, name: &str) -> Result<RingEntry, BookError> {
        check_name_of("key name", name)?;
        let path = self.private_path(name);
        if !path.exists() {
            if self.public_path(name).exists() {
                return Err(BookError::PrivateGone { name: name.to_owned(), path });
            }
            let names = self.names()?;
            return Err(BookError::unknown("key", name, names.iter().map(String::as_str)));
        }
        let note = self.load_notes()?.keys.remove(name);
        self.read(name.to_owned(), path, note)
    }

    /// Every key, each with its own success or failure: one broken file must not hide the others.
    ///
    /// # Errors
    /// [`BookError::Io`] when the folder cannot be listed.
    pub fn all(&self) -> Result<Vec<Result<RingEntry, BookError>>, BookError> {
        let mut notes = self.load_notes()?.keys;
        let names = self.names()?;
        Ok(names
            .into_iter()
            .map(|name| {
                let (path, note) = (self.private_path(&name), notes.remove(&name));
                self.read(name, path, note)
            })
            .collect())
    }

    pub(crate) fn read(
        &self,
        name: String,
        path: PathBuf,
        note: Option<KeyNote>,
    ) -> Result<RingEntry, BookError> {
        let (sealed, mode) = read_sealed(&path)?;
        let line = public_line::parse(&read_or_empty(&self.public_path(&name))?).ok();
        let (shown, comment) = line.map(|(key, comment)| (Some(key), comment)).unwrap_or_default();
        // What the private file itself shows counts; a container that shows nothing leaves it to the public file.
        let public = sealed
            .public()
            .cloned()
            .or(shown)
            .ok_or_else(|| BookError::Key { path: path.clone(), source: KeyError::PassphraseNeeded })?;
        Ok(RingEntry { name, path, sealed, public, comment, note: note.unwrap_or_default(), mode })
    }

    /// Adds a key under a new name: the private file for the owner alone, the public one for everyone. When it fails, nothing
    /// of it is left.
    ///
    /// # Errors
    /// [`BookError::Exists`]; [`BookError::Held`] for a key that is there under another name; what writing runs into.
    pub fn add(
        &self,
        name: &str,
        key: &PrivateKey,
        protect: Protect<'_>,
        note: KeyNote,
        random: &mut dyn RandomSource,
    ) -> Result<PathBuf, BookError> {
        check_name_of("key name", name)?;
        let _lock = self.home.lock()?;
        create_private_folder(&self.folder())?;
        let path = self.private_path(name);
        if path.exists() {
            return Err(BookError::Exists { what: "key", name: name.to_owned() });
        }
        // Under the lock: two at once that take in the same key would each find it new.
        if let Some(name) = self.name_of(key.public())? {
            return Err(BookError::Held { name });
        }
        self.sweep();
        // The note first: it is the private file that makes a key, and a note without one harms nobody.
        let written = self
            .edit_notes(|notes| {
                notes.insert(name.to_owned(), note);
            })
            .and_then(|()| self.write_pair(name, key, protect, random));
        if let Err(error) = written {
            // A full disk may refuse even this; what it was that failed is told, not that.
            let _ = remove_if_there(&path);
            let _ = remove_if_there(&self.public_path(name));
            let _ = self.edit_notes(|notes| {
                notes.remove(name);
            });
            return Err(error);
        }
        Ok(path)
    }

    /// Writes a key anew in its place: with another passphrase, comment or protection. The old file stays until the
    /// new one has been read back and is the same key.
    ///
    /// # Errors
    /// [`BookError::Unknown`]; what writing runs into.
    pub fn rewrite(
        &self,
        name: &str,
        key: &PrivateKey,
        protect: Protect<'_>,
        random: &mut dyn RandomSource,
    ) -> Result<(), BookError> {
        let _lock = self.home.lock()?;
        if *key.public() != self.get(name)?.public {
            let source = KeyError::Inconsistent("the file has changed meanwhile");
            return Err(BookError::Key { path: self.private_path(name), source });
        }
        self.sweep();
        self.write_pair(name, key, protect, random)
    }

    /// Removes what writes that were killed left behind: it may be a private key. Only under the lock, where nobody else
    /// writes; what cannot be removed now is removed next time.
    fn sweep(&self) {
        let entries = fs::read_dir(self.folder()).into_iter().flatten().filter_map(Result::ok);
        for entry in entries.filter(|entry| entry.file_name().to_string_lossy().starts_with(TEMPORARY_PREFIX))
        {
            let _ = fs::remove_file(entry.path());
        }
    }

    /// The public file first, so that the private one, which makes the key, never stands alone.
    fn write_pair(
        &self,
        name: &str,
        key: &PrivateKey,
        protect: Protect<'_>,
        random: &mut dyn RandomSource,
    ) -> Result<(), BookError> {
        let line = format!("{}\n", public_line::format(key.public(), key.comment()));
        let path = self.private_path(name);
        let content = proven_private(key, PrivateContainer::OpensshKeyV1, protect, random)
            .map_err(|source| BookError::Key { path: path.clone(), source })?;
        write_atomically(&self.public_path(name), line.as_bytes(), 0o644)?;
        write_atomically(&path, &content, 0o600)
    }

    /// Changes what is noted of a key.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn change_note(&self, name: &str, change: impl FnOnce(&mut KeyNote)) -> Result<(), BookError> {
        let _lock = self.home.lock()?;
        self.edit_notes(|notes| change(notes.entry(name.to_owned()).or_default()))
    }

    /// Gives a key another name. Whenever it is interrupted, the key is whole under one of the two.
    ///
    /// # Errors
    /// [`BookError::Unknown`], [`BookError::Exists`]; what writing runs into.
    pub fn rename(&self, old: &str, new: &str) -> Result<(), BookError> {
        check_name_of("key name", new)?;
        let _lock = self.home.lock()?;
        let entry = self.get(old)?;
        if self.private_path(new).exists() {
            return Err(BookError::Exists { what: "key", name: new.to_owned() });
        }
        self.edit_notes(|notes| {
            notes.insert(new.to_owned(), entry.note);
        })?;
        let line = format!("{}\n", public_line::format(&entry.public, &entry.comment));
        write_atomically(&self.public_path(new), line.as_bytes(), 0o644)?;
        let (from, to) = (self.private_path(old), self.private_path(new));
        fs::rename(&from, &to).map_err(BookError::io("rename", &from))?;
        remove_if_there(&self.public_path(old))?;
        self.edit_notes(|notes| {
            notes.remove(old);
            for note in notes.values_mut().filter(|note| note.replaced_by.as_deref() == Some(old)) {
                note.replaced_by = Some(new.to_owned());
            }
        })
    }

    /// Removes a key: its files and what is noted of it.
    ///
    /// # Errors
    /// [`BookError::Unknown`]; what the system says.
    pub fn remove(&self, name: &str) -> Result<(), BookError> {
        check_name_of("key name", name)?;
        let _lock = self.home.lock()?;
        if !self.private_path(name).exists() && !self.public_path(name).exists() {
            let names = self.names()?;
            return Err(BookError::unknown("key", name, names.iter().map(String::as_str)));
        }
        self.sweep();
        // A broken file can be removed too, so it is not read first.
        remove_if_there(&self.private_path(name))?;
        remove_if_there(&self.public_path(name))?;
        self.edit_notes(|notes| {
            notes.remove(name);
        })
    }

    pub(crate) fn load_notes(&self) -> Result<RingForm, BookError> {
        let path = self.folder().join(RING_FILE);
        read_toml(&path).map(|(notes, _)| notes)
    }

    fn edit_notes(
        &self,
        change: impl FnOnce(&mut std::collections::BTreeMap<String, KeyNote>),
    ) -> Result<(), BookError> {
        let path = self.folder().join(RING_FILE);
        let mut notes = self.load_notes()?;
        change(&mut notes.keys);
        let text =
            toml::to_string(&notes).map_err(|error| BookError::syntax(&path, "", None, error.to_string()))?;
        write_atomically(&path, text.as_bytes(), 0o600)
    }

    /// Reads a key file that need not be in the ring.
    ///
    /// # Errors
    /// [`BookError::Io`], [`BookError::Key`].
    pub fn read_file(path: &Path) -> Result<(Sealed, u32), BookError> {
        read_sealed(path)
    }
}
