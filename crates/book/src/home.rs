//! The folder that everything lives in, its lock, and atomic writes.

use std::any::Any;
use std::fs::{self, File, TryLockError};
use std::io::{ErrorKind, Read, Seek, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use serde::de::DeserializeOwned;

use crate::{BookError, fault};

/// Largest file of ours that we read, in bytes: ten thousand machines take about 2 MB.
pub(crate) const MAX_FILE_LEN: u64 = 64 * 1024 * 1024;

/// How the names of files begin that are being written.
pub(crate) const TEMPORARY_PREFIX: &str = ".new-";

/// The folder of one user's book, trust store and key ring.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Home {
    path: PathBuf,
    memory: Memory,
}

/// What is remembered of a home's files in one process, by all who share the home.
#[derive(Debug, Clone, Default)]
struct Memory(Arc<OnceLock<Box<dyn Any + Send + Sync>>>);

/// Homes are the same whatever was read of them.
impl PartialEq for Memory {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Memory {}

/// Held while files are read and written back; released on drop.
#[derive(Debug)]
pub struct HomeLock {
    _file: File,
}

impl Home {
    /// The home at `path`, which need not exist yet.
    pub fn new(path: PathBuf) -> Self {
        Self { path, memory: Memory::default() }
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The path of a file in it.
    pub fn file(&self, name: &str) -> PathBuf {
        self.path.join(name)
    }

    /// What is remembered, by the one who remembers: there is room for one kind of memory, and nothing for another.
    /// A folder in it that only we can open; made when it is not there.
    ///
    /// # Errors
    /// What the system says.
    pub fn folder(&self, name: &str) -> Result<PathBuf, BookError> {
        create_private_folder(&self.path)?;
        let folder = self.file(name);
        create_private_folder(&folder)?;
        Ok(folder)
    }

    pub(crate) fn memory<T: Any + Default + Send + Sync>(&self) -> Option<&T> {
        self.memory.0.get_or_init(|| Box::new(T::default())).downcast_ref()
    }

    /// Whether nobody else can change what is in the folder; one that is not there yet is fine.
    ///
    /// # Errors
    /// [`BookError::NotAlone`].
    pub fn check_alone(&self, us: u32) -> Result<(), BookError> {
        let Ok(metadata) = fs::metadata(&self.path) else { return Ok(()) };
        let mode = metadata.permissions().mode() & 0o7777;
        let why = if metadata.uid() != us && metadata.uid() != 0 {
            format!("it belongs to another user (number {})", metadata.uid())
        } else if mode & 0o022 != 0 {
            format!("others may write to it (mode {mode:04o})")
        } else {
            return Ok(());
        };
        Err(BookError::NotAlone { path: self.path.clone(), why })
    }

    /// Makes the folder, closed to others, and waits for the lock.
    ///
    /// # Errors
    /// [`BookError::Io`].
    pub fn lock(&self) -> Result<HomeLock, BookError> {
        create_private_folder(&self.path)?;
        let path = self.path.join(".lock");
        let open = BookError::io("open", &path);
        // Whoever may open it may hold it for ever: nobody else may.
        let mut file = File::options()
            .create(true)
            .truncate(false)
            .read(true)
            .write(true)
            .mode(0o600)
            .open(&path)
            .map_err(open)?;
        let lock = || BookError::io("lock", &path);
        if file.metadata().map_err(lock())?.permissions().mode() & 0o077 != 0 {
            file.set_permissions(fs::Permissions::from_mode(0o600)).map_err(lock())?;
        }
        let mut tries = 0;
        loop {
            match file.try_lock() {
                Ok(()) => break,
                Err(TryLockError::Error(error)) => return Err(lock()(error)),
                Err(TryLockError::WouldBlock) if tries < QUIET_TRIES => {
                    tries += 1;
                    std::thread::sleep(BETWEEN_TRIES);
                }
                Err(TryLockError::WouldBlock) => {
                    if let Some(tell) = TELL_WAIT.get() {
                        tell(&path, holder(&mut file));
                    }
                    file.lock().map_err(lock())?;
                    break;
                }
            }
        }
        // For whoever waits; of no other use, so that it may fail.
        let _ = file
            .set_len(0)
            .and_then(|()| file.rewind())
            .and_then(|()| write!(file, "{}", std::process::id()));
        Ok(HomeLock { _file: file })
    }
}

/// How often a lock is tried, about a second long, before anything is said about it.
const QUIET_TRIES: u32 = 200;
const BETWEEN_TRIES: Duration = Duration::from_millis(5);

/// Who tells a person that a lock is waited for, which, and which process holds it as far as that is known.
static TELL_WAIT: OnceLock<fn(&Path, Option<u32>)> = OnceLock::new();

/// Has waits of more than a second for the home's lock told: which file, and which process holds it. The first to ask for it is told.
pub fn tell_waits(tell: fn(&Path, Option<u32>)) {
    let _ = TELL_WAIT.set(tell);
}

fn holder(file: &mut File) -> Option<u32> {
    let mut text = String::new();
    file.rewind().ok()?;
    file.take(20).read_to_string(&mut text).ok()?;
    text.trim().parse().ok()
}

/// Makes a folder with mode 0700, and its parents; leaves one that exists as it is.
pub(crate) fn create_private_folder(path: &Path) -> Result<(), BookError> {
    fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(path)
        .map_err(BookError::io("make the folder", path))
}

/// What can be read, up to one byte above a limit. In one buffer that is never moved: it may hold a secret.
pub(crate) fn read_bounded(reader: &mut fs::File, limit: u64) -> std::io::Result<Vec<u8>> {
    let len = reader.metadata().map_or(0, |metadata| if metadata.is_file() { metadata.len() } else { limit });
    let mut bytes = Vec::with_capacity(usize::try_from(len.min(limit) + 1).unwrap_or_default());
    reader.take(limit + 1).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// The text of a file; empty when there is none.
pub(crate) fn read_or_empty(path: &Path) -> Result<String, BookError> {
    match File::open(path) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(String::new()),
        Err(error) => Err(BookError::io("read", path)(error)),
        Ok(mut file) => read_text(&mut file, path),
    }
}

/// The text of an open file from where it stands.
pub(crate) fn read_text(file: &mut File, path: &Path) -> Result<String, BookError> {
    let io = |source| BookError::Io { action: "read", path: path.to_owned(), source };
    let bytes = read_bounded(file, MAX_FILE_LEN).map_err(io)?;
    if bytes.len() as u64 > MAX_FILE_LEN {
        return Err(io(std::io::Error::new(ErrorKind::FileTooLarge, "larger than 64 MiB")));
    }
    String::from_utf8(bytes)
        .map_err(|_| io(std::io::Error::new(ErrorKind::InvalidData, "it is not UTF-8 text")))
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

/// Writes more behind a file that is `len` bytes long, all of it or nothing, as far as that can be had: whoever is killed in the middle leaves
/// a part. The lock must be held.
pub(crate) fn append(path: &Path, len: u64, content: &[u8]) -> Result<(), BookError> {
    let io = || BookError::io("write", path);
    let mut file = File::options().append(true).open(path).map_err(io())?;
    fault::point();
    let written = file.write_all(content).and_then(|()| {
        fault::point();
        file.sync_data()
    });
    if let Err(error) = written {
        // The disk is full: what did fit would be read as broken.
        let _ = file.set_len(len);
        return Err(io()(error));
    }
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
