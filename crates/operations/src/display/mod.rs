//! Displays: programs of a machine draw on the display here. Whether that can work is found out before the login, and how far they are trusted is said.

mod forward;
mod look;
mod start;
mod windows;

use std::io;
use std::path::PathBuf;

use lantern_book::Home;
use lantern_link::{AuthorityError, DisplayError};

pub use forward::DisplayForward;
pub use look::{DisplaySeen, look};
pub use start::free_display;
pub use windows::Windows;

/// How far the programs of a machine are trusted at the display.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DisplayTrust {
    /// They draw, and see nothing of the other windows and of what is typed there (Security Extension Specification, "untrusted").
    #[default]
    Restricted,
    /// The same, and there is just one of them.
    Single,
    /// They see and do whatever the programs here can.
    Trusted,
}

impl DisplayTrust {
    /// As it is said in the book and on the screen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Restricted => "restricted",
            Self::Single => "single",
            Self::Trusted => "trusted",
        }
    }
}

/// What this computer says of its display.
#[derive(Debug, Clone)]
pub struct DisplayPlace {
    /// Its name, as `DISPLAY` has it.
    pub name: Option<String>,
    /// The file with what displays want to be shown, as `XAUTHORITY` has it.
    pub authority: PathBuf,
    /// What starts a display server when none answers.
    pub start: Option<String>,
    /// Where the name of the display that was started is noted.
    pub started: PathBuf,
    /// Where a display server that was started says what it has to say.
    pub log: PathBuf,
}

/// Why programs of machines cannot draw here.
#[derive(Debug, thiserror::Error)]
pub enum DisplayFailure {
    /// Nothing says which display.
    #[error("no display is named here: DISPLAY is not set")]
    NoName,
    /// What is named is none.
    #[error("DISPLAY names no display: `{name}`")]
    BadName {
        /// What it says.
        name: String,
    },
    /// The display is of no use.
    #[error(transparent)]
    Display(#[from] DisplayError),
    /// It cannot tell programs apart.
    #[error(
        "the display {name} cannot keep a machine's programs from the other windows: it has no SECURITY extension"
    )]
    NoSecurity {
        /// Its name.
        name: String,
    },
    /// It says that it does, and does not.
    #[error("the display {name} trusts programs that it was told not to trust")]
    NotRestricted {
        /// Its name.
        name: String,
    },
    /// The file with the cookies.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// What starts a display server cannot be run.
    #[error("`{command}` cannot be run")]
    StartFailed {
        /// It.
        command: String,
        /// What the system says.
        source: io::Error,
    },
    /// It was run, and no display answers.
    #[error("`{command}` was run, and the display {name} does not answer: {said}")]
    Started {
        /// What was run.
        command: String,
        /// The display.
        name: String,
        /// What became of it.
        said: String,
    },
    /// It chooses a display by itself, and nobody knows which.
    #[error("`{command}` does not say which display it starts")]
    StartsNowhere {
        /// It.
        command: String,
    },
}

/// What kind of reason it is: enough to say what to do about it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DisplayCause {
    /// Nothing says which display.
    Unnamed,
    /// What is named is no display, or does not behave like one.
    NotOne,
    /// Nothing answers there.
    NotThere,
    /// It does not let us in: without a cookie, or in spite of the one that we have.
    NotLetIn {
        /// Whether there is one.
        has_cookie: bool,
    },
    /// It cannot keep programs from seeing everything.
    NoSecurity,
    /// The file with the cookies cannot be read or written.
    Authority,
    /// What starts a display server does not do it.
    Start,
    /// What starts a display server does not say which.
    StartsNowhere,
}

impl DisplayFailure {
    /// What kind of reason it is.
    pub fn cause(&self) -> DisplayCause {
        match self {
            Self::NoName => DisplayCause::Unnamed,
            Self::BadName { .. } | Self::Display(DisplayError::Odd { .. }) => DisplayCause::NotOne,
            Self::Display(DisplayError::NotThere { .. }) => DisplayCause::NotThere,
            Self::Display(DisplayError::Refused { has_cookie, .. }) => {
                DisplayCause::NotLetIn { has_cookie: *has_cookie }
            }
            Self::NoSecurity { .. } | Self::NotRestricted { .. } => DisplayCause::NoSecurity,
            Self::Authority(_) => DisplayCause::Authority,
            Self::StartFailed { .. } | Self::Started { .. } => DisplayCause::Start,
            Self::StartsNowhere { .. } => DisplayCause::StartsNowhere,
        }
    }
}

/// What this computer's surroundings say of its display.
#[derive(Debug, Clone, Default)]
pub struct DisplaySurroundings {
    /// Its name, as `DISPLAY` has it.
    pub name: Option<String>,
    /// The file with what displays want to be shown, as `XAUTHORITY` has it.
    pub authority: PathBuf,
}

impl DisplayPlace {
    /// With what the book says of starting one.
    pub fn new(home: &Home, around: &DisplaySurroundings, start: Option<String>) -> Self {
        Self {
            name: around.name.clone(),
            authority: around.authority.clone(),
            start,
            started: home.file("display-started"),
            log: home.file("display-started.log"),
        }
    }
}
