//! The made-up system that simulated machines run: a few programs and files, the same on every day.

mod acting;
mod lamp_view;
mod logins;
mod panel;
mod programs;
mod sftp;
mod shell;
mod window;

use std::time::Instant;

use lantern_link::Line;
use lantern_ssh::DisplayRequest;

use crate::acting::Acting;
use crate::tree::FilesOfUser;

pub use crate::tree::FILES;
pub(crate) use acting::ActingProgram;
pub(crate) use logins::LoginLists;
pub(crate) use programs::start;
pub(crate) use sftp::Sftp;
pub(crate) use shell::Shell;
pub use window::burst;

/// Output waiting to be sent above which a program is not asked for more, in bytes.
pub(crate) const OUTPUT_HIGH_WATER: usize = 256 * 1024;

/// Who runs a program, and where.
#[derive(Debug, Clone, Default)]
pub(crate) struct Surroundings {
    pub(crate) user: String,
    pub(crate) host: String,
    pub(crate) environment: Vec<(String, String)>,
    pub(crate) logins: LoginLists,
    pub(crate) files: FilesOfUser,
    /// Whether programs may run as other users.
    pub(crate) acting: Acting,
    /// Whether programs may draw on the visitor's display, and what they were told of it.
    pub(crate) may_draw: bool,
    pub(crate) display: Option<DisplayRequest>,
    /// Columns and rows, when there is a terminal.
    pub(crate) terminal: Option<(u32, u32)>,
}

/// What a program reads and writes.
#[derive(Default)]
pub(crate) struct ProgramIo {
    pub(crate) input: Vec<u8>,
    pub(crate) input_ended: bool,
    pub(crate) out: Vec<u8>,
    pub(crate) err: Vec<u8>,
    /// Signals that came in, by name.
    pub(crate) signals: Vec<String>,
    pub(crate) surroundings: Surroundings,
    /// Lines of programs that are to lead to the visitor's display.
    pub(crate) dials: Vec<Line>,
}

/// How a program ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Exit {
    Status(u32),
    Signal(&'static str),
}

/// Whether a program goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Progress {
    /// It waits for input, for room, or until this time.
    Waiting(Option<Instant>),
    Ended(Exit),
}

/// A program: called when there is input, room or a time it waited for.
pub(crate) trait Program: Send {
    fn advance(&mut self, io: &mut ProgramIo, now: Instant) -> Progress;
}

/// The default reaction to signals: they end the program.
pub(crate) fn fatal_signal(io: &ProgramIo) -> Option<Exit> {
    let name = io.signals.first()?;
    let known = ["HUP", "INT", "QUIT", "KILL", "TERM", "USR1", "USR2", "PIPE"];
    known.into_iter().find(|known| known == name).map(Exit::Signal)
}
