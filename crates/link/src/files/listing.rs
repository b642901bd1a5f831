//! What is in a folder.

use std::collections::VecDeque;

use lantern_ssh::sftp::{Answer, FileHandle, NameEntry, SftpRequest};

use super::shared::{Asked, close_unheard, is_end, put};
use super::{Files, FilesError};

/// Most names of one folder that are kept: a million of them is 200 MB.
const MOST_NAMES: usize = 1_000_000;
/// Bytes that they may take together, with what the server writes of each.
const MOST_BYTES: usize = 512 * 1024 * 1024;
/// Most pages that are asked for ahead.
const MOST_AHEAD: usize = 32;
/// Pages without a name in a row after which a listing is over: some servers begin with one.
const MOST_EMPTY: usize = 8;

/// A folder that is listed; dropped, it is closed.
struct OpenFolder<'a> {
    files: &'a Files,
    handle: Option<FileHandle>,
}

impl Drop for OpenFolder<'_> {
    fn drop(&mut self) {
        if let Some(handle) = self.handle.take() {
            close_unheard(self.files.shared(), &SftpRequest::close(handle));
        }
    }
}

impl Files {
    /// The names in a folder, in the machine's order, without the folder itself and the one above it. Names that no folder can have, with a slash in
    /// them or empty, are left out: whoever puts such a name behind a path gets somewhere else.
    ///
    /// # Errors
    /// It is no folder, may not be read, has too many names; no answer.
    pub async fn list(&self, path: &[u8]) -> Result<Vec<NameEntry>, FilesError> {
        let folder = match self.ask("list", path, SftpRequest::OpenFolder(path.to_vec())).await? {
            Answer::Opened(handle) => OpenFolder { files: self, handle: Some(handle) },
            _ => return Err(self.misfit()),
        };
        let Some(handle) = &folder.handle else { return Err(self.misfit()) };
        self.read_pages(path, &SftpRequest::list(handle)).await
    }

    async fn read_pages(&self, path: &[u8], next: &SftpRequest) -> Result<Vec<NameEntry>, FilesError> {
        let mut names = Vec::new();
        let mut ahead: VecDeque<Asked> = VecDeque::new();
        let (mut may, mut empty, mut bytes) = (1, 0, 0_usize);
        loop {
            while ahead.len() < may {
                ahead.push_back(put(self.shared(), next));
            }
            let Some(first) = ahead.pop_front() else { return Err(self.misfit()) };
            match first.await? {
                Ok(Answer::Names(page)) => {
                    empty = if page.is_empty() { empty + 1 } else { 0 };
                    if empty > MOST_EMPTY {
                        return Ok(names);
                    }
                    let len: usize = page.iter().map(|entry| entry.name.len() + entry.line.len()).sum();
                    names.extend(page.into_iter().filter(|entry| is_name(&entry.name)));
                    bytes += len;
                    if names.len() > MOST_NAMES || bytes > MOST_BYTES {
                        let (machine, path) = (self.machine().to_owned(), path.to_vec());
                        return Err(FilesError::TooMany { machine, path, most: MOST_NAMES });
                    }
                    may = (may * 2).min(MOST_AHEAD);
                }
                Ok(_) => return Err(self.misfit()),
                Err(refusal) if is_end(&refusal) => return Ok(names),
                Err(refusal) => return Err(self.refused("list", path, refusal)),
            }
        }
    }
}

fn is_name(name: &[u8]) -> bool {
    !matches!(name, b"" | b"." | b"..") && !name.contains(&b'/') && !name.contains(&0)
}
