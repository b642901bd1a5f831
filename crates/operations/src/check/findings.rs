//! What there is to do something about.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use lantern_book::BookError;
use lantern_keys::CertificateFault;
use lantern_link::{LinkError, TrustFailure};

use crate::display::DisplayCause;
use crate::{ReachError, chain};

/// Something that was seen, and that something can be done about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Finding {
    /// A certificate that is known has these faults.
    Certificate(Vec<CertificateFault>),
    /// A key, a password or a method was not enough.
    NotEnough {
        /// What was offered.
        what: String,
        /// What came of it.
        outcome: String,
    },
    /// The clocks differ too much.
    Clock,
    /// The book wants these forwarded, and the server does not allow it.
    NotForwarded(Vec<String>),
    /// Something on this computer that can be mended.
    Mendable(Mend),
    /// No keeper runs.
    NoKeeper,
    /// The port of a tunnel is taken.
    PortTaken {
        /// The tunnel.
        tunnel: String,
        /// What the book says of it.
        form: String,
    },
    /// Displays are to be forwarded, and the one here is not as it must be.
    Display(DisplayCause),
    /// The server would have to run a program for displays that is not there.
    NoCookieHelper,
}

/// Something on this computer that can be mended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mend {
    /// Narrow the permissions of a file or folder to these bits.
    Narrow(PathBuf, u32),
    /// Remove a socket that nobody listens on.
    RemoveSocket(PathBuf),
}

impl Mend {
    /// Does it.
    ///
    /// # Errors
    /// What the system says.
    pub fn carry_out(&self) -> std::io::Result<()> {
        match self {
            Self::Narrow(path, mode) => fs::set_permissions(path, fs::Permissions::from_mode(*mode)),
            Self::RemoveSocket(path) => fs::remove_file(path),
        }
    }
}

/// Why a walk ended before the end of the way.
#[derive(Debug)]
pub enum CheckError {
    /// What the book or the options say makes no sense.
    Entry(ReachError),
    /// A key that the book says is offered cannot be used.
    Key(BookError),
    /// The connection, the login, or what is behind it.
    Way(LinkError),
    /// Another machine refused the same user and password: they are not tried here, since accounts lock.
    NotTried {
        /// The user.
        user: String,
        /// The machine that refused.
        refused_at: String,
    },
    /// The walk itself was broken off.
    BrokenOff,
}

impl CheckError {
    /// What was met, in one line.
    pub fn headline(&self) -> String {
        match self {
            Self::Entry(error) => chain(error),
            Self::Key(error) => chain(error),
            Self::Way(LinkError::Trust(trust)) => match trust.as_ref() {
                // Nobody was to be asked: a check decides nothing.
                TrustFailure::NoOneToAsk { machine, presented, .. } => {
                    format!("the {} of {machine} is not known yet", presented.noun())
                }
                other => chain(other),
            },
            Self::Way(error) => chain(error),
            Self::NotTried { user, refused_at } => {
                format!("the password of {user} was not tried, since {refused_at} has just refused it")
            }
            Self::BrokenOff => "the check was broken off".into(),
        }
    }
}
