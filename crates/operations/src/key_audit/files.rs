//! The files outside of the ring that an audit looks into, and those that it does not.

use std::collections::HashSet;
use std::fs::{self, DirEntry};
use std::io;
use std::path::{Path, PathBuf};

use lantern_book::{FileIdentity, kind_in_words};
use lantern_keys::container::MAX_FILE_LEN;

use super::AuditError;

/// Most files looked at below one path: a folder of a million is not a folder of keys.
pub const MAX_FILES: usize = 200_000;

/// Why something below a path was not looked at.
#[derive(Debug)]
pub enum Unseen {
    /// A folder or file that the system would not show.
    Refused(io::Error),
    /// A file larger than any key.
    TooLarge,
    /// What is no file: a link, a pipe, a socket, a device.
    NotAFile(&'static str),
}

/// What there is to look into, and what not.
pub(super) struct Listed {
    pub(super) files: Vec<PathBuf>,
    pub(super) unseen: Vec<(PathBuf, Unseen)>,
}

/// Every file below these paths, or the files themselves, each once whatever paths lead to it, without those that `known` names. Links
/// below a path are not followed; one that was named is.
pub(super) fn list(paths: &[PathBuf], known: HashSet<FileIdentity>) -> Result<Listed, AuditError> {
    let mut walk = Walk { met: known, listed: Listed { files: Vec::new(), unseen: Vec::new() } };
    for path in paths {
        walk.add(path)?;
    }
    Ok(walk.listed)
}

struct Walk {
    met: HashSet<FileIdentity>,
    listed: Listed,
}

impl Walk {
    fn add(&mut self, path: &Path) -> Result<(), AuditError> {
        let failed = |source| AuditError::Path { path: path.to_owned(), source };
        let metadata = fs::metadata(path).map_err(failed)?;
        if !metadata.is_dir() {
            self.put(path.to_owned(), &metadata);
            return Ok(());
        }
        let before = self.listed.files.len();
        let mut folders = vec![path.to_owned()];
        while let Some(folder) = folders.pop() {
            let entries = match fs::read_dir(&folder).and_then(Iterator::collect::<io::Result<Vec<DirEntry>>>)
            {
                Ok(entries) => entries,
                Err(error) if folder == path => return Err(failed(error)),
                Err(error) => {
                    self.listed.unseen.push((folder, Unseen::Refused(error)));
                    continue;
                }
            };
            for entry in entries {
                match entry.metadata() {
                    Ok(metadata) if metadata.is_dir() => folders.push(entry.path()),
                    Ok(metadata) => self.put(entry.path(), &metadata),
                    Err(error) => self.listed.unseen.push((entry.path(), Unseen::Refused(error))),
                }
                if self.listed.files.len() - before > MAX_FILES {
                    return Err(AuditError::TooMany { path: path.to_owned() });
                }
            }
        }
        if let Some(added) = self.listed.files.get_mut(before..) {
            added.sort();
        }
        Ok(())
    }

    fn put(&mut self, path: PathBuf, metadata: &fs::Metadata) {
        if !metadata.is_file() {
            let kind = kind_in_words(metadata.file_type());
            self.listed.unseen.push((path, Unseen::NotAFile(kind)));
        } else if metadata.len() > MAX_FILE_LEN as u64 {
            self.listed.unseen.push((path, Unseen::TooLarge));
        } else if self.met.insert(FileIdentity::of(metadata)) {
            self.listed.files.push(path);
        }
    }
}

/// Which files these are that stand in a folder: the ring's, by whatever path somebody else comes to them.
pub(super) fn identities(folder: &Path) -> HashSet<FileIdentity> {
    let entries = fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    entries.filter_map(|entry| Some(FileIdentity::of(&entry.metadata().ok()?))).collect()
}
