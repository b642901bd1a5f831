//! A name in a folder.

use lantern_ssh::sftp::{Attributes, FileKind};

/// A name, and what is known of its file; of a link itself, and not of what it leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The name, as its side has it.
    pub name: Vec<u8>,
    /// What is known.
    pub attributes: Attributes,
    /// What the server writes of it for people to read: empty here, and what it likes there.
    pub line: Vec<u8>,
}

impl Entry {
    /// What kind of file it is.
    pub fn kind(&self) -> FileKind {
        self.attributes.kind()
    }
}
