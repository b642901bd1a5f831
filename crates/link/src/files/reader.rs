//! A file of a machine as its bytes, in order.

use bytes::Bytes;
use lantern_ssh::sftp::{Answer, Attributes, OpenFlags, ReadAhead, SftpRequest};

use super::open_file::OpenFile;
use super::shared::is_end;
use super::{Files, FilesError};

/// Most bytes that are taken of a file that has no size, as those of `/proc`: what has more has no end.
const MOST_WITHOUT_SIZE: u64 = 256 * 1024 * 1024;

/// A file that is read. Dropped, it is closed.
pub struct FileReader {
    file: OpenFile,
    reads: ReadAhead,
    attributes: Attributes,
}

impl Files {
    /// Opens a file to read it, from this byte on.
    ///
    /// # Errors
    /// It is not there, or may not be read; no answer.
    pub async fn read(&self, path: &[u8], from: u64) -> Result<FileReader, FilesError> {
        let handle = self.open("read", path, OpenFlags::READ, Attributes::default()).await?;
        let file = OpenFile::new(self, path, handle);
        let attributes = file.look().await?;
        let piece = u32::try_from(self.shared().lock().limits.read).unwrap_or(u32::MAX);
        let end = attributes.size.filter(|size| *size > 0);
        Ok(FileReader { file, reads: ReadAhead::new(from, end, piece), attributes })
    }
}

impl FileReader {
    /// What was known of it when it was opened.
    pub fn attributes(&self) -> Attributes {
        self.attributes
    }

    /// What is known of it now.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn look(&self) -> Result<Attributes, FilesError> {
        self.file.look().await
    }

    /// The next bytes, with where they are in the file; none at its end. Dropped, it loses nothing.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn next(&mut self) -> Result<Option<(u64, Vec<Bytes>)>, FilesError> {
        loop {
            self.ask_ahead()?;
            let (machine, path) = (|| self.file.files.machine().to_owned(), &self.file.path);
            if let Some(bytes) = self.reads.next_bytes() {
                let read = bytes.0 + bytes.1.iter().map(|piece| piece.len() as u64).sum::<u64>();
                if self.attributes.size.unwrap_or(0) == 0 && read > MOST_WITHOUT_SIZE {
                    let (machine, path) = (machine(), path.clone());
                    return Err(FilesError::Endless { machine, path, most: MOST_WITHOUT_SIZE });
                }
                return Ok(Some(bytes));
            }
            if self.reads.is_finished() {
                return Ok(None);
            }
            let (offset, outcome) = self.file.hear().await?;
            let brought = match outcome {
                Ok(Answer::Data(pieces)) => Some(pieces),
                Ok(_) => return Err(self.file.files.misfit()),
                Err(refusal) if is_end(&refusal) => None,
                Err(refusal) => return Err(self.file.files.refused("read", &self.file.path, refusal)),
            };
            self.reads.answered(offset, brought).map_err(|_| FilesError::Stalled {
                machine: self.file.files.machine().to_owned(),
                path: self.file.path.clone(),
            })?;
        }
    }

    /// Asks for as much as the line holds.
    fn ask_ahead(&mut self) -> Result<(), FilesError> {
        while self.file.has_room(self.reads.piece().into()) {
            let Some((offset, len)) = self.reads.next_read() else { break };
            let request = SftpRequest::read(self.file.handle()?, offset, len);
            self.file.ask(offset, &request, len.into())?;
        }
        Ok(())
    }
}
