//! What became of one file.

use crate::files::FileFault;

/// What became of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Moved {
    /// Its bytes.
    pub bytes: u64,
    /// How many of them were there from before.
    pub from_before: u64,
    /// Bytes of it that were never written, and were not sent.
    pub holes: u64,
    /// Whether it was compared when it was there.
    pub verified: bool,
    /// Whether it turned out to be there already, the same.
    pub same: bool,
    /// Whether it was changed while it was read.
    pub changed: bool,
}

/// Why a file was not copied.
#[derive(Debug, Clone, thiserror::Error)]
pub enum CopyFault {
    /// A side.
    #[error(transparent)]
    File(#[from] FileFault),
    /// What arrived is not what was sent.
    #[error("{side} has other bytes than were sent", side = side)]
    Differs {
        /// Where.
        side: String,
    },
    /// It could not be compared.
    #[error("{side} cannot tell what it has")]
    NotVerified {
        /// Where.
        side: String,
    },
    /// A machine's shell, where files go by that.
    #[error("{machine}: cannot {what} {}: {said}", String::from_utf8_lossy(path))]
    Shell {
        /// The machine.
        machine: String,
        /// What was attempted.
        what: &'static str,
        /// With this.
        path: Vec<u8>,
        /// What it said; text from outside, made harmless.
        said: String,
    },
    /// The copy was stopped.
    #[error("stopped")]
    Stopped,
}
