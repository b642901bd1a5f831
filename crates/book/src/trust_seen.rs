//! What tells one state of a file from another, and a file that has grown from one that was changed.

use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::time::SystemTime;

/// How much of what was read is read again, to see that what is new was written behind it, in bytes.
const OVERLAP: usize = 4096;

/// A state of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Seen {
    /// Which file: a number is given again to a new file, but not the time of its making.
    file: (u64, u64, Option<SystemTime>),
    pub(crate) len: u64,
    modified: (i64, i64),
    /// Its last bytes.
    pub(crate) end: Vec<u8>,
    /// Whether more can be written behind it: it is in our form, to its end.
    pub(crate) is_ours: bool,
}

impl Seen {
    /// The state of a file with such an end, see [`end_of`].
    pub(crate) fn of(metadata: &Metadata, end: Vec<u8>, is_ours: bool) -> Self {
        Self {
            file: identity(metadata),
            len: metadata.len(),
            modified: (metadata.mtime(), metadata.mtime_nsec()),
            end,
            is_ours,
        }
    }

    /// Whether the file is as it was.
    pub(crate) fn is_as_before(&self, metadata: &Metadata) -> bool {
        self.file == identity(metadata)
            && self.len == metadata.len()
            && self.modified == (metadata.mtime(), metadata.mtime_nsec())
    }

    /// Whether it is the same file and longer, so that it is worth a look whether it begins as before.
    pub(crate) fn may_have_grown_to(&self, metadata: &Metadata) -> bool {
        self.is_ours && self.file == identity(metadata) && self.len < metadata.len()
    }
}

fn identity(metadata: &Metadata) -> (u64, u64, Option<SystemTime>) {
    (metadata.dev(), metadata.ino(), metadata.created().ok())
}

/// The part of a text by which its continuation is known.
pub(crate) fn end_of(text: &[u8]) -> Vec<u8> {
    text.get(text.len().saturating_sub(OVERLAP)..).unwrap_or_default().to_vec()
}
