//! An open file of a machine that is read and written anywhere, by several at once.

use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use lantern_ssh::sftp::{Answer, Attributes, Extension, FileHandle, OpenFlags, SftpRequest, StatusCode};

use super::shared::{Asked, Outcome, close_unheard, put};
use super::{Files, FilesError};

/// An open file. Clones are the same one; when the last goes, it is closed.
#[derive(Debug, Clone)]
pub struct RandomAccess {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    files: Files,
    path: Vec<u8>,
    /// Taken by whoever closes it.
    handle: std::sync::Mutex<Option<FileHandle>>,
}

impl Drop for Inner {
    fn drop(&mut self) {
        if let Some(handle) = self.handle.get_mut().ok().and_then(Option::take) {
            close_unheard(self.files.shared(), &SftpRequest::close(handle));
        }
    }
}

impl Files {
    /// Opens a file to read and write it anywhere.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn open_anywhere(
        &self,
        path: &[u8],
        flags: OpenFlags,
        permissions: Option<u32>,
    ) -> Result<RandomAccess, FilesError> {
        let attributes = Attributes { mode: permissions, ..Attributes::default() };
        let handle = self.open("open", path, flags, attributes).await?;
        let handle = std::sync::Mutex::new(Some(handle));
        Ok(RandomAccess { inner: Arc::new(Inner { files: self.clone(), path: path.to_vec(), handle }) })
    }

    fn limits(&self) -> (u64, u64) {
        let limits = self.shared().lock().limits;
        (limits.read.max(1), limits.write.max(1))
    }
}

impl RandomAccess {
    fn request(&self, make: impl FnOnce(&FileHandle) -> SftpRequest) -> Result<SftpRequest, FilesError> {
        let handle = self.inner.handle.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        handle.as_ref().map(make).ok_or_else(|| self.inner.files.misfit())
    }

    fn put(&self, make: impl FnOnce(&FileHandle) -> SftpRequest) -> Result<Asked, FilesError> {
        Ok(put(self.inner.files.shared(), &self.request(make)?))
    }

    fn refused(&self, what: &'static str, refusal: lantern_ssh::sftp::Refusal) -> FilesError {
        self.inner.files.refused(what, &self.inner.path, refusal)
    }

    fn done(&self, what: &'static str, outcome: Outcome) -> Result<(), FilesError> {
        outcome.map(drop).map_err(|refusal| self.refused(what, refusal))
    }

    /// Reads from there on: so many bytes, or fewer where the file ends.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn read_at(&self, offset: u64, len: u32) -> Result<Bytes, FilesError> {
        let (most, _) = self.inner.files.limits();
        let end = offset.saturating_add(len.into());
        // What is more than one answer takes is asked for at once.
        let mut asked = Vec::new();
        let mut at = offset;
        while at < end {
            let part = u32::try_from((end - at).min(most)).unwrap_or(u32::MAX);
            asked.push((at, part, self.put(|handle| SftpRequest::read(handle, at, part))?));
            at += u64::from(part);
        }
        let mut out = BytesMut::new();
        for (at, part, asked) in asked {
            let mut came: u32 = 0;
            let mut outcome = asked.await?;
            loop {
                let pieces = self.pieces(outcome)?;
                let len: usize = pieces.iter().map(Bytes::len).sum();
                // A read that brings nothing is the end of it.
                if len == 0 {
                    return Ok(out.freeze());
                }
                came += u32::try_from(len).unwrap_or(u32::MAX).min(part - came);
                pieces.iter().for_each(|piece| out.extend_from_slice(piece));
                if came >= part {
                    break;
                }
                let (at, left) = (at + u64::from(came), part - came);
                outcome = self.put(|handle| SftpRequest::read(handle, at, left))?.await?;
            }
        }
        Ok(out.freeze())
    }

    /// Reads what one answer brings: that may be less than was asked for where the file goes on, too. Nothing is its end.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn read_some(&self, offset: u64, len: u32) -> Result<Bytes, FilesError> {
        let outcome = self.put(|handle| SftpRequest::read(handle, offset, len))?.await?;
        let mut pieces = self.pieces(outcome)?;
        Ok(if pieces.len() == 1 { pieces.remove(0) } else { Bytes::from(pieces.concat()) })
    }

    /// The bytes of an answer: none at the end of the file.
    fn pieces(&self, outcome: Outcome) -> Result<Vec<Bytes>, FilesError> {
        match outcome {
            Ok(Answer::Data(pieces)) => Ok(pieces),
            Ok(_) => Err(self.inner.files.misfit()),
            Err(refusal) if refusal.code == StatusCode::EndOfFile => Ok(Vec::new()),
            Err(refusal) => Err(self.refused("read", refusal)),
        }
    }

    /// Whether nothing can be asked about it any more: it is to be opened anew.
    pub fn is_over(&self) -> bool {
        self.inner.files.is_over()
    }

    /// Begins to write there, behind what was begun before; how it went is told by [`WriteUnderWay::ended`].
    ///
    /// # Errors
    /// Nothing can be asked any more.
    pub fn write_at(&self, mut offset: u64, mut data: Bytes) -> Result<WriteUnderWay, FilesError> {
        let most = usize::try_from(self.inner.files.limits().1).unwrap_or(usize::MAX);
        let mut asked = Vec::new();
        while !data.is_empty() {
            let part = data.split_to(data.len().min(most));
            let len = part.len() as u64;
            asked.push(self.put(|handle| SftpRequest::write(handle, offset, part))?);
            offset += len;
        }
        Ok(WriteUnderWay { file: self.clone(), asked })
    }

    /// Changes what is known of it.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn change(&self, attributes: Attributes) -> Result<(), FilesError> {
        let asked = self.put(|handle| SftpRequest::change(handle, attributes))?;
        self.done("change", asked.await?)
    }

    /// What is known of it now.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn look(&self) -> Result<Attributes, FilesError> {
        match self.put(SftpRequest::look_at)?.await? {
            Ok(Answer::Attributes(attributes)) => Ok(attributes),
            Ok(_) => Err(self.inner.files.misfit()),
            Err(refusal) => Err(self.refused("look at", refusal)),
        }
    }

    /// Brings it to disk, where the machine can.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn sync(&self) -> Result<(), FilesError> {
        if !self.inner.files.has(Extension::Fsync) {
            return Ok(());
        }
        let asked = self.put(SftpRequest::sync)?;
        self.done("bring to disk", asked.await?)
    }

    /// Closes it; on full disks and quotas, some servers say only here that it was not written.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn close(self) -> Result<(), FilesError> {
        let taken = self.inner.handle.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take();
        match taken {
            Some(handle) => {
                let outcome = put(self.inner.files.shared(), &SftpRequest::close(handle)).await?;
                self.done("close", outcome)
            }
            None => Ok(()),
        }
    }
}

/// A write under way.
pub struct WriteUnderWay {
    file: RandomAccess,
    asked: Vec<Asked>,
}

impl WriteUnderWay {
    /// Waits until it is written.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn ended(self) -> Result<(), FilesError> {
        let mut outcome = Ok(());
        for asked in self.asked {
            let answer = asked.await?;
            outcome = outcome.and(self.file.done("write", answer));
        }
        outcome
    }
}
