//! What came of a copy.

use super::{CopyFault, Left};
use crate::files::FileFault;

/// What came of a copy.
#[derive(Debug, Default)]
pub struct Report {
    /// Files that were copied.
    pub copied: usize,
    /// Their bytes.
    pub bytes: u64,
    /// How many of those were there from before.
    pub from_before: u64,
    /// Bytes that were never written at the source, and were not sent.
    pub holes: u64,
    /// Files that were compared.
    pub verified: usize,
    /// Files that turned out to be there already.
    pub same: usize,
    /// Folders that were made.
    pub folders: usize,
    /// Links that were made.
    pub links: usize,
    /// Files, links and folders that were removed.
    pub removed: usize,
    /// Files that were changed while they were read, by their paths at the source.
    pub changed: Vec<Vec<u8>>,
    /// What was not done, by its path at the destination, and why.
    pub failed: Vec<(Vec<u8>, CopyFault)>,
    /// Parts that can be gone on with: the path of the file, and how many bytes are there.
    pub kept: Vec<(Vec<u8>, u64)>,
    /// What was left out, by its path at the source, and why.
    pub left: Vec<(Vec<u8>, Left)>,
    /// Whether it was stopped.
    pub stopped: bool,
    /// What ended it before everything was done.
    pub ended: Option<FileFault>,
}
