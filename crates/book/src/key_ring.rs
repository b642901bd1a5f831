//! The key ring: `keys/NAME.key` and `keys/NAME.pub` for each key, and `keys/ring.toml` with what they cannot say.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_keys::container::{MAX_FILE_LEN, Sealed, openssh_key_v1};
use lantern_keys::{PrivateKey, PublicKey, RandomSource, SecretString, public_line};
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::home::{create_private_folder, read_or_empty, read_toml, write_atomically};
use crate::machine::check_name;
use crate::{BookError, Home};

const FOLDER: &str = "keys";
const RING_FILE: &str = "ring.toml";
const PRIVATE_SUFFIX: &str = ".key";

/// The key ring of one home.
#[derive(Debug, Clone)]
pub struct KeyRing {
    home: Home,
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
    /// The comment of the public file.
    pub comment: String,
    /// When it was made, as far as the ring knows.
    pub made: Option<Timestamp>,
    /// The permission bits of the private file.
    pub mode: u32,
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RingForm {
    #[serde(default)]
    keys: BTreeMap<String, KeyNote>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct KeyNote {
    made: Timestamp,
}

impl RingEntry {
    /// The public half.
    pub fn public(&self) -> &PublicKey {
        self.sealed.public()
    }

    /// Whether others than the owner could read the private file.
    pub fn is_exposed(&self) -> bool {
        self.mode & 0o077 != 0
    }
}

impl KeyRing {
    /// The ring of this home.
    pub fn new(home: &Home) -> Self {
        Self { home: home.clone() }
    }

    fn folder(&self) -> PathBuf {
        self.home.file(FOLDER)
    }

    /// Path of the private file of the key with this name.
    pub fn private_path(&self, name: &str) -> PathBuf {
        self.folder().join(format!("{name}{PRIVATE_SUFFIX}"))
    }

    /// Path of the public file of the key with this name.
    pub fn public_path(&self, name: &str) -> PathBuf {
        self.folder().join(format!("{name}.pub"))
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
        names.sort();
        Ok(names)
    }

    /// Reads one key.
    ///
    /// # Errors
    /// [`BookError::Unknown`] with the nearest name; [`BookError::Key`] when the file is no good.
    pub fn get(&self, name: &str) -> Result<RingEntry, BookError> {
        check_name("key name", name)?;
        let path = self.private_path(name);
        if !path.exists() {
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

    fn read(&self, name: String, path: PathBuf, note: Option<KeyNote>) -> Result<RingEntry, BookError> {
        let (sealed, mode) = read_sealed(&path)?;
        let public_path = self.public_path(&name);
        let line = read_or_empty(&public_path)?;
        let comment = public_line::parse(&line).map(|(_, comment)| comment).unwrap_or_default();
        Ok(RingEntry { name, path, sealed, comment, made: note.map(|note| note.made), mode })
    }

    /// Adds a key under a new name: the private file for the owner alone, the public one for everyone.
    ///
    /// # Errors
    /// [`BookError::Exists`]; what writing runs into.
    pub fn add(
        &self,
        name: &str,
        key: &PrivateKey,
        passphrase: Option<&SecretString>,
        now: Timestamp,
        random: &mut dyn RandomSource,
    ) -> Result<PathBuf, BookError> {
        check_name("key name", name)?;
        let _lock = self.home.lock()?;
        create_private_folder(&self.folder())?;
        let path = self.private_path(name);
        if path.exists() {
            return Err(BookError::Exists { what: "key", name: name.to_owned() });
        }
        let text = openssh_key_v1::format(key, passphrase, openssh_key_v1::DEFAULT_ROUNDS, random)
            .map_err(|source| BookError::Key { path: path.clone(), source })?;
        let line = format!("{}\n", public_line::format(key.public(), key.comment()));
        write_atomically(&self.public_path(name), line.as_bytes(), 0o644)?;
        write_atomically(&path, text.as_bytes(), 0o600)?;
        let mut notes = self.load_notes()?;
        notes.keys.insert(name.to_owned(), KeyNote { made: now });
        let ring_path = self.folder().join(RING_FILE);
        let notes = toml::to_string(&notes)
            .map_err(|error| BookError::syntax(&ring_path, "", None, error.to_string()))?;
        write_atomically(&ring_path, notes.as_bytes(), 0o600)?;
        Ok(path)
    }

    fn load_notes(&self) -> Result<RingForm, BookError> {
        let path = self.folder().join(RING_FILE);
        read_toml(&path).map(|(notes, _)| notes)
    }

    /// Reads a key file that need not be in the ring.
    ///
    /// # Errors
    /// [`BookError::Io`], [`BookError::Key`].
    pub fn read_file(path: &Path) -> Result<Sealed, BookError> {
        read_sealed(path).map(|(sealed, _)| sealed)
    }
}

fn read_sealed(path: &Path) -> Result<(Sealed, u32), BookError> {
    let metadata = fs::metadata(path).map_err(BookError::io("read", path))?;
    let key_error = |source| BookError::Key { path: path.to_owned(), source };
    if metadata.len() > MAX_FILE_LEN as u64 {
        let limit = MAX_FILE_LEN as u64;
        return Err(key_error(lantern_keys::KeyError::TooCostly {
            what: "bytes",
            met: metadata.len(),
            limit,
        }));
    }
    let content = Zeroizing::new(fs::read(path).map_err(BookError::io("read", path))?);
    let sealed = Sealed::parse(&content).map_err(key_error)?;
    Ok((sealed, metadata.permissions().mode() & 0o777))
}
