//! What can fail about files.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use lantern_link::{FilesError, LinkError};

/// Why something about a file was not done.
#[derive(Debug, Clone, thiserror::Error)]
pub enum FileFault {
    /// On this computer.
    #[error("cannot {what} {}: {error}", path.display())]
    Here {
        /// What was attempted.
        what: &'static str,
        /// With this.
        path: PathBuf,
        /// What the system said.
        error: Arc<io::Error>,
    },
    /// On a machine.
    #[error(transparent)]
    There(#[from] FilesError),
}

impl FileFault {
    pub(crate) fn here(what: &'static str, path: impl Into<PathBuf>, error: io::Error) -> Self {
        Self::Here { what, path: path.into(), error: Arc::new(error) }
    }

    /// Whether there is nothing by that name.
    pub fn is_not_found(&self) -> bool {
        match self {
            Self::Here { error, .. } => error.kind() == io::ErrorKind::NotFound,
            Self::There(error) => error.is_not_found(),
        }
    }

    /// Whether nothing more can be asked of the machine.
    pub fn is_end(&self) -> bool {
        matches!(self, Self::There(error) if error.is_end())
    }

    /// Whether the machine's file service gave one handle to two files.
    pub fn is_shared_handle(&self) -> bool {
        matches!(self, Self::There(error) if error.is_shared_handle())
    }

    /// The failure of the connection, where it is one.
    pub fn link(&self) -> Option<&LinkError> {
        match self {
            Self::There(FilesError::Link(error)) => Some(error),
            _ => None,
        }
    }
}

impl From<LinkError> for FileFault {
    fn from(error: LinkError) -> Self {
        Self::There(error.into())
    }
}
