//! What a file holds.

use std::collections::BTreeMap;

use lantern_ssh::sftp::{FileKind, FileNumber};

/// What a file holds.
#[derive(Debug, Clone)]
pub(super) enum Content {
    Bytes(Vec<u8>),
    Folder(BTreeMap<Vec<u8>, FileNumber>),
    Link(Vec<u8>),
}

impl Content {
    pub(super) fn kind(&self) -> FileKind {
        match self {
            Self::Bytes(_) => FileKind::Regular,
            Self::Folder(_) => FileKind::Folder,
            Self::Link(_) => FileKind::Link,
        }
    }

    /// Its size, in bytes.
    pub(super) fn len(&self) -> u64 {
        match self {
            Self::Bytes(bytes) | Self::Link(bytes) => bytes.len() as u64,
            Self::Folder(_) => 4096,
        }
    }
}
