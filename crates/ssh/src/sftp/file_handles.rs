//! What a server calls its open files, and which of them are open now.

use std::collections::HashSet;

use bytes::Bytes;

use super::SftpError;

/// Longest handle, in bytes (draft §6.2).
const MAX_HANDLE: usize = 256;

/// A file or a folder that is open, by the server's name for it.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct FileHandle(pub(super) Bytes);

/// All that are open.
#[derive(Debug, Default)]
pub(super) struct OpenHandles(HashSet<Bytes>);

impl OpenHandles {
    /// Takes a new one in.
    ///
    /// # Errors
    /// It is held already, so nobody could say whose file it is; it is too long.
    pub(super) fn take_in(&mut self, handle: &Bytes) -> Result<(), SftpError> {
        if handle.len() > MAX_HANDLE {
            return Err(SftpError::HandleLength(handle.len()));
        }
        match self.0.insert(handle.clone()) {
            true => Ok(()),
            false => Err(SftpError::HandleGivenTwice),
        }
    }

    /// It is about to be closed: the server may give it to the next file as soon as it has heard of that.
    pub(super) fn let_go(&mut self, handle: &Bytes) {
        self.0.remove(handle);
    }
}
