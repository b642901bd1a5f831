//! What can fail about a machine's files.

use std::sync::Arc;

use lantern_ssh::sftp::{Refusal, SftpError, StatusCode};
use lantern_winrm::{FaultKind, WinrmError};

use crate::LinkError;
use crate::winrm::WinrmFailure;

/// Why something about a machine's files was not done.
#[derive(Debug, Clone, thiserror::Error)]
pub enum FilesError {
    /// The machine would not.
    #[error("{machine}: cannot {what} {}: {refusal}", String::from_utf8_lossy(path))]
    Refused {
        /// The machine.
        machine: String,
        /// What it was asked to do.
        what: &'static str,
        /// With this.
        path: Vec<u8>,
        /// What it said.
        refusal: Refusal,
    },
    /// It serves no files.
    #[error("{machine} has no file service: the subsystem `sftp` was refused")]
    NoService {
        /// The machine.
        machine: String,
    },
    /// Its file service cannot do that.
    #[error("{machine}: its file service cannot {what}")]
    CannotDo {
        /// The machine.
        machine: String,
        /// What it was to do.
        what: &'static str,
    },
    /// What the service says makes no sense.
    #[error("{machine}: its file service says what makes no sense: {source}")]
    Broken {
        /// The machine.
        machine: String,
        /// What.
        source: SftpError,
    },
    /// In the place of the service, something else speaks, as what runs at the start of each shell.
    #[error("{machine}: in the place of the file service, something else speaks: {said}")]
    Garbled {
        /// The machine.
        machine: String,
        /// What it says; text from outside, made harmless.
        said: String,
    },
    /// The service ended.
    #[error("{machine}: its file service ended{}", if said.is_empty() { String::new() } else { format!(": {said}") })]
    Ended {
        /// The machine.
        machine: String,
        /// Its last words; text from outside, made harmless.
        said: String,
    },
    /// The service is there and does not answer.
    #[error("{machine}: no answer about {what} in {seconds} s")]
    Unanswered {
        /// The machine.
        machine: String,
        /// What was asked.
        what: &'static str,
        /// How long was waited, in seconds.
        seconds: u64,
    },
    /// Reads bring nothing, and no end.
    #[error(
        "{machine}: {} cannot be read to its end: reads bring nothing, and no end",
        String::from_utf8_lossy(path)
    )]
    Stalled {
        /// The machine.
        machine: String,
        /// The file.
        path: Vec<u8>,
    },
    /// A file that has no size has no end either.
    #[error(
        "{machine}: {} says that it has no size, and more than {most} bytes came out of it",
        String::from_utf8_lossy(path)
    )]
    Endless {
        /// The machine.
        machine: String,
        /// The file.
        path: Vec<u8>,
        /// Bytes that were taken.
        most: u64,
    },
    /// A question for one name was answered with none or several.
    #[error(
        "{machine}: asked for one name for {}, its file service did not give one",
        String::from_utf8_lossy(path)
    )]
    Names {
        /// The machine.
        machine: String,
        /// The path.
        path: Vec<u8>,
    },
    /// A folder has more names than we keep.
    #[error("{machine}: {} has more than {most} names", String::from_utf8_lossy(path))]
    TooMany {
        /// The machine.
        machine: String,
        /// The folder.
        path: Vec<u8>,
        /// The limit.
        most: usize,
    },
    /// A path is longer than any system takes.
    #[error("{machine}: a path is too long to be sent")]
    PathTooLong {
        /// The machine.
        machine: String,
    },
    /// The connection failed.
    #[error("{0}")]
    Link(#[source] Arc<LinkError>),
}

impl From<LinkError> for FilesError {
    fn from(error: LinkError) -> Self {
        Self::Link(Arc::new(error))
    }
}

impl FilesError {
    /// The machine's code, where it refused something.
    pub fn code(&self) -> Option<StatusCode> {
        match self {
            Self::Refused { refusal, .. } => Some(refusal.code),
            _ => None,
        }
    }

    /// Whether there is nothing by that name.
    pub fn is_not_found(&self) -> bool {
        self.code() == Some(StatusCode::NoSuchFile)
    }

    /// Whether nothing more can be asked: what failed is the conversation, and not this one question.
    pub fn is_end(&self) -> bool {
        !matches!(
            self,
            Self::Refused { .. }
                | Self::CannotDo { .. }
                | Self::Stalled { .. }
                | Self::Endless { .. }
                | Self::Names { .. }
                | Self::TooMany { .. }
                | Self::PathTooLong { .. }
        )
    }

    /// Whether a machine of Windows lets nobody run commands, or not this one.
    pub(super) fn is_no_command(&self) -> bool {
        let Self::Link(error) = self else { return false };
        let LinkError::Winrm(failure) = &**error else { return false };
        let WinrmFailure::Answer { source: WinrmError::Fault(fault), .. } = &**failure else { return false };
        matches!(
            fault.kind(),
            FaultKind::AccessDenied
                | FaultKind::ShellsForbidden
                | FaultKind::NoSuchResource
                | FaultKind::NotFound
        )
    }

    /// Whether a password was refused: at the login that the first question makes over WinRM, or to act as another user.
    pub fn is_refused_password(&self) -> bool {
        let Self::Link(error) = self else { return false };
        match &**error {
            LinkError::Winrm(failure) => failure.is_refusal(),
            LinkError::Privilege(_) => true,
            _ => false,
        }
    }

    /// Whether its server gave one handle to two files, so that they can be had one after the other only.
    pub fn is_shared_handle(&self) -> bool {
        matches!(self, Self::Broken { source: SftpError::HandleGivenTwice, .. })
    }
}
