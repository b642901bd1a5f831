//! Files of this computer.

use std::ffi::OsStr;
use std::fs::{self, File, Metadata, OpenOptions};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use lantern_ssh::sftp::Attributes;
use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};

use super::{Entry, FileFault};

/// A path of this computer from its bytes.
pub(super) fn path(bytes: &[u8]) -> PathBuf {
    PathBuf::from(OsStr::from_bytes(bytes))
}

/// Does something that may wait for a disk.
pub(super) async fn off_thread<T: Send + 'static>(
    what: &'static str,
    path: PathBuf,
    act: impl FnOnce(&Path) -> io::Result<T> + Send + 'static,
) -> Result<T, FileFault> {
    let done = tokio::task::spawn_blocking(move || {
        let done = act(&path);
        (path, done)
    });
    match done.await {
        Ok((_, Ok(value))) => Ok(value),
        Ok((path, Err(error))) => Err(FileFault::here(what, path, error)),
        Err(error) => Err(FileFault::here(what, "", io::Error::other(error))),
    }
}

fn seconds(time: i64) -> u32 {
    // Before 1970 and after 2106 there is no number for it.
    u32::try_from(time.max(0)).unwrap_or(u32::MAX)
}

pub(super) fn attributes(metadata: &Metadata) -> Attributes {
    Attributes {
        size: Some(metadata.len()),
        owner: Some((metadata.uid(), metadata.gid())),
        mode: Some(metadata.mode()),
        times: Some((seconds(metadata.atime()), seconds(metadata.mtime()))),
    }
}

pub(super) fn list(path: &Path) -> io::Result<Vec<Entry>> {
    let entry = |entry: io::Result<fs::DirEntry>| {
        let entry = entry?;
        let attributes = attributes(&entry.metadata()?);
        Ok(Entry { name: entry.file_name().as_bytes().to_vec(), attributes, line: Vec::new() })
    };
    // What goes while the folder is read is not in it.
    let is_there =
        |read: &io::Result<Entry>| !matches!(read, Err(error) if error.kind() == io::ErrorKind::NotFound);
    fs::read_dir(path)?.map(entry).filter(is_there).collect()
}

/// A new file that nobody else may read meanwhile.
pub(super) fn create(path: &Path) -> io::Result<File> {
    OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)
}

/// Gives an open file what is to be known of it; the size has been seen to.
pub(super) fn change_open(file: &File, attributes: Attributes) -> io::Result<()> {
    if let Some((user, group)) = attributes.owner {
        std::os::unix::fs::fchown(file, Some(user), Some(group))?;
    }
    if let Some(mode) = attributes.permissions() {
        file.set_permissions(fs::Permissions::from_mode(mode))?;
    }
    if let Some(times) = attributes.times {
        rustix::fs::futimens(file, &timestamps(times))?;
    }
    Ok(())
}

/// The same by its name; of a link itself with `link`.
pub(super) fn change(path: &Path, attributes: Attributes, link: bool) -> io::Result<()> {
    if let Some((user, group)) = attributes.owner {
        match link {
            true => std::os::unix::fs::lchown(path, Some(user), Some(group))?,
            false => std::os::unix::fs::chown(path, Some(user), Some(group))?,
        }
    }
    if let Some(mode) = attributes.permissions().filter(|_| !link) {
        fs::set_permissions(path, fs::Permissions::from_mode(mode))?;
    }
    if let Some(times) = attributes.times {
        let flags = if link { AtFlags::SYMLINK_NOFOLLOW } else { AtFlags::empty() };
        rustix::fs::utimensat(CWD, path, &timestamps(times), flags)?;
    }
    Ok(())
}

fn timestamps((read, changed): (u32, u32)) -> Timestamps {
    let time = |seconds: u32| Timespec { tv_sec: seconds.into(), tv_nsec: 0 };
    Timestamps { last_access: time(read), last_modification: time(changed) }
}

/// Bytes that a user may still write where this is.
pub(super) fn space(path: &Path) -> io::Result<u64> {
    let space = rustix::fs::statvfs(path)?;
    Ok(space.f_bavail.saturating_mul(space.f_frsize))
}
