//! The folder that everything lives in, its lock, and atomic writes.

use std::fs::{self, File};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;

use crate::{BookError, fault};

/// Largest file of ours that we read, in bytes: ten thousand machines take about 2 MB.
const MAX_FILE_LEN: u64 = 64 * 1024 * 1024;

/// How the names of files begin that are being written.
pub(crate) const TEMPORARY_PREFIX: &str = ".new-";

/// The folder of one user's book, trust store and key ring.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Home {
    path: PathBuf,
}

/// Held while files are read and written back; released on drop.
#[derive(Debug)]
pub struct HomeLock {
    _file: File,
}

impl Home {
    /// The home at `path`, which need not exist yet.
    pub fn new(path: PathBuf) -> Self {
        Self { path }
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The path of a file in it.
    pub fn file(&self, name: &str) -> PathBuf {
        self.path.join(name)
    }

    /// Makes the folder, closed to others, and waits for the lock.
    ///
    /// # Errors
    /// [`BookError::Io`].
    pub fn lock(&self) -> Result<HomeLock, BookError> {
        create_private_folder(&self.path)?;
        let path = self.path.join(".lock");
        let file = File::options()
            .create(true)
            .truncate(false)
            .write(true)
            .open(&path)
            .map_err(BookError::io("open", &path))?;
        file.lock().map_err(BookError::io("lock", &path))?;
        Ok(HomeLock { _file: file })
    }
}

/// Makes a folder with mode 0700, and its parents; leaves one that exists as it is.
pub(crate) fn create_private_folder(path: &Path) -> Result<(), BookError> {
    fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(path)
        .map_err(BookError::io("make the folder", path))
}

/// The text of a file; empty when there is none.
pub(crate) fn read_or_empty(path: &Path) -> Result<String, BookError> {
    let io = |source| BookError::Io { action: "read", path: path.to_owned(), source };
    match fs::metadata(path) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(String::new()),
        Err(error) => return Err(io(error)),
        Ok(metadata) if metadata.len() > MAX_FILE_LEN => {
            return Err(io(std::io::Error::new(ErrorKind::FileTooLarge, "larger than 64 MiB")));
        }
        Ok(_) => {}
    }
    fs::read_to_string(path).map_err(io)
}

/// A TOML file and its text; a missing file is an empty one.
pub(crate) fn read_toml<T: DeserializeOwned>(path: &Path) -> Result<(T, String), BookError> {
    let text = read_or_empty(path)?;
    let form = toml::from_str(&text).map_err(|error| {
        BookError::syntax(path, &text, error.span().map(|span| span.start), error.message().to_owned())
    })?;
    Ok((form, text))
}

/// Writes a whole file or nothing: a temporary one beside it, flushed to disk, then renamed over it.
pub(crate) fn write_atomically(path: &Path, content: &[u8], mode: u32) -> Result<(), BookError> {
    write_file(path, content, mode, true)
}

/// The same; without `replace`, a file that is there stays as it is.
pub(crate) fn write_file(path: &Path, content: &[u8], mode: u32, replace: bool) -> Result<(), BookError> {
    // A bare file name has an empty parent, which is the current folder.
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let io = || BookError::io("write", path);
    fault::point();
    let mut file = tempfile::Builder::new()
        .prefix(TEMPORARY_PREFIX)
        .permissions(fs::Permissions::from_mode(mode))
        .tempfile_in(folder)
        .map_err(io())?;
    file.write_all(content).map_err(io())?;
    // The umask may have taken bits away that others are meant to have.
    file.as_file().set_permissions(fs::Permissions::from_mode(mode)).map_err(io())?;
    file.as_file().sync_all().map_err(io())?;
    fault::point();
    let persisted = if replace { file.persist(path) } else { file.persist_noclobber(path) };
    persisted.map_err(|error| match error.error.kind() {
        ErrorKind::AlreadyExists => BookError::Exists { what: "file", name: path.display().to_string() },
        _ => io()(error.error),
    })?;
    // The rename itself must reach the disk too.
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(io())?;
    fault::point();
    Ok(())
}

/// Removes a file; one that is not there is fine.
pub(crate) fn remove_if_there(path: &Path) -> Result<(), BookError> {
    fault::point();
    match fs::remove_file(path) {
        Err(error) if error.kind() != ErrorKind::NotFound => Err(BookError::io("remove", path)(error)),
        _ => Ok(()),
    }
}
