//! Key files outside and inside of the ring: read with a limit, written only when they are proven to hold the same key.

use std::ffi::OsString;
use std::fs::{self, FileType, Metadata};
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use lantern_keys::container::{
    Found, MAX_FILE_LEN, Patience, PrivateContainer, Protect, PublicFile, Sealed, read, write_private,
};
use lantern_keys::{KeyError, PrivateKey, RandomSource};
use zeroize::Zeroizing;

use crate::BookError;
use crate::home::{read_bounded, write_file};

/// The bytes of a key in a container, opened again and proven to be the same key.
///
/// # Errors
/// A container that cannot hold this key.
pub fn proven_private(
    key: &PrivateKey,
    container: PrivateContainer,
    protect: Protect<'_>,
    random: &mut dyn RandomSource,
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let content = write_private(key, container, protect, random)?;
    let again = Sealed::parse(&content)?.open_all(protect.passphrase, Patience::Long)?;
    match again.first() {
        Some(again) if again.public() == key.public() => Ok(content),
        _ => Err(KeyError::Inconsistent("what was to be written is another key")),
    }
}

/// Writes a file that must not be there yet, unless `replace`; a file in the way keeps permissions that are narrower. Only files
/// are replaced: a link is followed to one, and what is no file stays.
///
/// # Errors
/// [`BookError::Exists`], [`BookError::NotAFile`]; what writing runs into.
pub fn write_new(path: &Path, content: &[u8], mode: u32, replace: bool) -> Result<(), BookError> {
    let Some((target, there)) = check_place(path, replace)? else {
        return write_file(path, content, mode, false);
    };
    let mode = (there.permissions().mode() & mode) | 0o600;
    // Told by the name that was asked for.
    write_file(&target, content, mode, true).map_err(|error| match error {
        BookError::Io { action, source, .. } => BookError::Io { action, path: path.to_owned(), source },
        error => error,
    })
}

/// Whether [`write_new`] may write there: the file in the way, with its links followed, if there is one.
///
/// # Errors
/// As [`write_new`].
pub fn check_place(path: &Path, replace: bool) -> Result<Option<(PathBuf, Metadata)>, BookError> {
    let Ok(there) = fs::symlink_metadata(path) else { return Ok(None) };
    let file_only = |kind: FileType| match kind.is_file() {
        true => Ok(()),
        false => Err(BookError::NotAFile { path: path.to_owned(), what: kind_in_words(kind) }),
    };
    if !replace {
        if !there.is_symlink() {
            file_only(there.file_type())?;
        }
        return Err(BookError::Exists { what: "file", name: path.display().to_string() });
    }
    let target = fs::canonicalize(path).map_err(BookError::io("follow the link", path))?;
    let there = fs::metadata(&target).map_err(BookError::io("look at", path))?;
    file_only(there.file_type())?;
    Ok(Some((target, there)))
}

/// What stands at a place in the file system, with its article.
pub fn kind_in_words(kind: FileType) -> &'static str {
    if kind.is_dir() {
        "a folder"
    } else if kind.is_symlink() {
        "a link"
    } else if kind.is_fifo() {
        "a pipe"
    } else if kind.is_socket() {
        "a socket"
    } else if kind.is_file() {
        "a file"
    } else {
        "a device"
    }
}

/// Which file it is, whatever path leads to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FileIdentity {
    device: u64,
    inode: u64,
}

impl FileIdentity {
    /// That of a file by what the system says of it.
    pub fn of(metadata: &Metadata) -> Self {
        Self { device: metadata.dev(), inode: metadata.ino() }
    }
}

/// A file that may hold keys, as it was read.
pub struct KeyFileContent {
    /// Its bytes.
    pub bytes: Zeroizing<Vec<u8>>,
    /// Its permission bits.
    pub mode: u32,
    /// Which file it is.
    pub identity: FileIdentity,
    /// Whether it is a file that can be removed: no pipe, no device.
    pub is_file: bool,
    /// How many names it has.
    pub names: u64,
}

/// A private key of a file, closed, and the file's permission bits.
pub(crate) fn read_sealed(path: &Path) -> Result<(Sealed, u32), BookError> {
    let content = read_key_file(path)?;
    let sealed =
        Sealed::parse(&content.bytes).map_err(|source| BookError::Key { path: path.to_owned(), source })?;
    Ok((sealed, content.mode))
}

/// The content of a file that may hold keys. What counts is what comes out of it, not what the file system says of its length:
/// nothing above [`MAX_FILE_LEN`] is read.
///
/// # Errors
/// [`BookError::Io`], [`BookError::NotAFile`] for a folder, [`BookError::Key`].
pub fn read_key_file(path: &Path) -> Result<KeyFileContent, BookError> {
    let mut file = fs::File::open(path).map_err(BookError::io("read", path))?;
    let metadata = file.metadata().map_err(BookError::io("read", path))?;
    if metadata.is_dir() {
        return Err(BookError::NotAFile { path: path.to_owned(), what: "a folder" });
    }
    let limit = MAX_FILE_LEN as u64;
    let bytes = Zeroizing::new(read_bounded(&mut file, limit).map_err(BookError::io("read", path))?);
    if bytes.len() as u64 > limit {
        let source = KeyError::TooCostly { what: "bytes", met: metadata.len().max(limit + 1), limit };
        return Err(BookError::Key { path: path.to_owned(), source });
    }
    Ok(KeyFileContent {
        bytes,
        mode: metadata.permissions().mode() & 0o777,
        identity: FileIdentity::of(&metadata),
        is_file: metadata.is_file(),
        names: metadata.nlink(),
    })
}

/// The public halves in files beside a private one: its name with `.pub` behind it, or instead of its ending.
pub fn public_beside(private: &Path) -> Vec<(PathBuf, PublicFile)> {
    let mut behind = OsString::from(private);
    behind.push(".pub");
    let mut places = vec![PathBuf::from(behind), private.with_extension("pub")];
    places.dedup();
    let read = |path: PathBuf| {
        let mut found = read(&read_key_file(&path).ok()?.bytes).ok()?;
        match (found.pop(), found.is_empty()) {
            (Some(Ok(Found::Public(half))), true) => Some((path, half)),
            _ => None,
        }
    };
    places.into_iter().filter(|path| path != private).filter_map(read).collect()
}
