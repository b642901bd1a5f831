//! A file of a machine that is written.

use bytes::Bytes;
use lantern_ssh::sftp::{Attributes, Extension, OpenFlags, SftpRequest};

use super::open_file::OpenFile;
use super::shared::{Outcome, put};
use super::{Files, FilesError};

/// A file that is written. Dropped before its end, it is closed as it is.
pub struct FileWriter {
    file: OpenFile,
    piece: usize,
    next: u64,
}

impl Files {
    /// Opens a file to write it.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn write(
        &self,
        path: &[u8],
        flags: OpenFlags,
        permissions: Option<u32>,
    ) -> Result<FileWriter, FilesError> {
        let attributes = Attributes { mode: permissions, ..Attributes::default() };
        let handle = self.open("write", path, flags, attributes).await?;
        let piece = usize::try_from(self.shared().lock().limits.write).unwrap_or(usize::MAX);
        Ok(FileWriter { file: OpenFile::new(self, path, handle), piece, next: 0 })
    }
}

impl FileWriter {
    /// Hands bytes over that are to be there from this offset on; it waits while too many are under way. That they are written is known at the end.
    ///
    /// # Errors
    /// What was handed over before could not be written; no answer.
    pub async fn write(&mut self, mut offset: u64, mut data: Bytes) -> Result<(), FilesError> {
        while !data.is_empty() {
            let part = data.split_to(data.len().min(self.piece));
            let len = part.len() as u64;
            while !self.file.has_room(len) {
                let (_, outcome) = self.file.hear().await?;
                self.take(outcome)?;
            }
            // What has been answered meanwhile makes room, and says early what cannot be written.
            while let Some((_, outcome)) = self.file.try_hear() {
                self.take(outcome)?;
            }
            let request = SftpRequest::write(self.file.handle()?, offset, part);
            self.file.ask(self.next, &request, len)?;
            self.next += 1;
            offset += len;
        }
        Ok(())
    }

    fn take(&self, outcome: Outcome) -> Result<(), FilesError> {
        outcome.map(drop).map_err(|refusal| self.file.files.refused("write", &self.file.path, refusal))
    }

    /// Waits until everything is written, gives the file these attributes, brings it to disk where the machine can and `sync` says so, and closes it.
    ///
    /// # Errors
    /// Something could not be written; the machine's refusal; no answer.
    pub async fn finish(mut self, attributes: Attributes, sync: bool) -> Result<(), FilesError> {
        while !self.file.is_quiet() {
            let (_, outcome) = self.file.hear().await?;
            self.take(outcome)?;
        }
        let handle = self.file.take_handle()?;
        let files = &self.file.files;
        let mut asked = Vec::new();
        if attributes != Attributes::default() {
            asked.push(("change", put(files.shared(), &SftpRequest::change(&handle, attributes))));
        }
        if sync && files.has(Extension::Fsync) {
            asked.push(("bring to disk", put(files.shared(), &SftpRequest::sync(&handle))));
        }
        // On full disks and quotas, some servers say only here that it was not written.
        asked.push(("close", put(files.shared(), &SftpRequest::close(handle))));
        let mut outcome = Ok(());
        for (what, asked) in asked {
            if let Err(refusal) = asked.await? {
                outcome = outcome.and(Err(files.refused(what, &self.file.path, refusal)));
            }
        }
        outcome
    }
}
