//! Failures about files, with what to do about them.

use lantern_link::FilesError;
use lantern_operations::copy::{CopyFault, PlanError, RootsError};
use lantern_operations::files::{FileFault, Side, TreeError};
use lantern_ssh::sftp::StatusCode;

use super::failure::{Failure, chain, code};

impl From<&FileFault> for Failure {
    fn from(fault: &FileFault) -> Self {
        match fault {
            FileFault::Here { .. } => Self::new(code::LOCAL, fault.to_string()),
            FileFault::There(error) => error.into(),
        }
    }
}

impl From<&FilesError> for Failure {
    fn from(error: &FilesError) -> Self {
        let failure = |code| Self::new(code, chain(error));
        match error {
            FilesError::Link(error) => (&**error).into(),
            FilesError::NoService { machine } => failure(code::SESSION)
                .hint(format!("what its server lets in: lantern check {machine}"))
                .hint("its administrator switches the service on, in the configuration of the SSH server"),
            FilesError::Garbled { machine, .. } => failure(code::PROTOCOL)
                .detail("a file that shells read at their start prints something there")
                .hint("have it print in interactive sessions only")
                .hint(format!("what it prints: lantern run {machine} -- true")),
            FilesError::Refused { machine, refusal, .. } => match refusal.code {
                StatusCode::PermissionDenied => failure(code::SESSION)
                    .hint(format!("who you are there, and what you may do: lantern run {machine} -- id")),
                _ => failure(code::SESSION),
            },
            FilesError::Broken { .. } | FilesError::Names { .. } => failure(code::PROTOCOL),
            FilesError::Ended { .. } => failure(code::LOST),
            FilesError::Unanswered { .. } => failure(code::TIMED_OUT),
            _ => failure(code::SESSION),
        }
    }
}

impl From<&TreeError> for Failure {
    fn from(error: &TreeError) -> Self {
        match error {
            TreeError::Fault(fault) => fault.into(),
            TreeError::TooMany => {
                Self::new(code::LOCAL, error.to_string()).hint("copy folders below it, one after the other")
            }
        }
    }
}

impl From<&RootsError> for Failure {
    fn from(error: &RootsError) -> Self {
        let failure = Self::new(code::USAGE, error.to_string());
        let missing = |side: &str| match side == Side::Here.name() {
            true => Self::new(code::LOCAL, error.to_string()),
            false => Self::new(code::SESSION, error.to_string()),
        };
        match error {
            RootsError::Fault(fault) => fault.into(),
            RootsError::NotFound { side, .. } | RootsError::NothingFits { side, .. } => missing(side),
            RootsError::NoFolder { .. } => failure.hint("a slash at its end has it made"),
            RootsError::NoParent { side, .. } => {
                missing(side).hint("a slash at the end of TO has it made, with the folders above")
            }
            RootsError::Twice { .. } => failure.hint("copy them into folders of their own"),
            _ => failure,
        }
    }
}

impl From<&PlanError> for Failure {
    fn from(error: &PlanError) -> Self {
        match error {
            PlanError::Tree(error) => error.into(),
            PlanError::NoRoom { side, room, wanted } => Self::new(
                code::SESSION,
                format!(
                    "on {side} there is room for {}, and {} are to be copied there",
                    super::size::bytes(*room),
                    super::size::bytes(*wanted)
                ),
            )
            .hint("--no-space-check tries nevertheless"),
        }
    }
}

impl From<&CopyFault> for Failure {
    fn from(fault: &CopyFault) -> Self {
        match fault {
            CopyFault::File(fault) => fault.into(),
            CopyFault::Stopped => Self::new(code::INTERRUPTED, "interrupted"),
            CopyFault::Differs { .. } => Self::new(code::SESSION, fault.to_string())
                .hint("it did not get its name; copy it again, and have the disks looked at"),
            CopyFault::Shell { .. } | CopyFault::NotVerified { .. } => {
                Self::new(code::SESSION, fault.to_string())
            }
        }
    }
}
