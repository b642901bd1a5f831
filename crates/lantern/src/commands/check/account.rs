//! What was found on the way to a machine.

use std::time::Duration;

use super::local::Mend;

/// The steps of a connection, in order. A later one cannot be taken when an earlier one fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Stage {
    Book,
    Name,
    Port,
    Identification,
    Algorithms,
    HostKey,
    Methods,
    Login,
    Session,
    Shell,
    Clock,
    Files,
    Forwarding,
    Local,
}

impl Stage {
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Book => "book",
            Self::Name => "name",
            Self::Port => "port",
            Self::Identification => "service",
            Self::Algorithms => "algorithms",
            Self::HostKey => "host key",
            Self::Methods => "methods",
            Self::Login => "login",
            Self::Session => "session",
            Self::Shell => "shell",
            Self::Clock => "clock",
            Self::Files => "files",
            Self::Forwarding => "forwarding",
            Self::Local => "here",
        }
    }
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Mark {
    /// As it should be.
    Good,
    /// Worth knowing.
    Note,
    /// Questionable, but the next step can be taken.
    Doubt,
    /// It failed, and the next step cannot be taken.
    Failed,
}

impl Mark {
    /// A word, so that the color is never alone in telling.
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Good => "ok",
            Self::Note => "note",
            Self::Doubt => "doubt",
            Self::Failed => "FAILED",
        }
    }
}

/// A step as it was taken.
#[derive(Debug, Clone)]
pub(super) struct Line {
    pub(super) stage: Stage,
    /// The gateway that it was about; none: the machine itself.
    pub(super) gateway: Option<String>,
    pub(super) mark: Mark,
    pub(super) saw: String,
    pub(super) took: Option<Duration>,
    /// What it means and what to do, a line each.
    pub(super) advice: Vec<String>,
}

/// Everything about one machine.
#[derive(Debug, Clone, Default)]
pub(super) struct Account {
    pub(super) machine: String,
    pub(super) place: String,
    pub(super) lines: Vec<Line>,
    /// The exit code of the step that failed.
    pub(super) code: u8,
    /// The end, in one plain sentence.
    pub(super) sentence: String,
    /// What to type next.
    pub(super) command: String,
    /// What on this computer can be mended.
    pub(super) mends: Vec<Mend>,
}

impl Account {
    /// The step that failed.
    pub(super) fn failed(&self) -> Option<&Line> {
        self.lines.iter().find(|line| line.mark == Mark::Failed)
    }

    /// Whether all is as it should be.
    pub(super) fn is_well(&self) -> bool {
        self.lines.iter().all(|line| line.mark < Mark::Doubt)
    }

    pub(super) fn is_over(&self) -> bool {
        !self.sentence.is_empty()
    }

    pub(super) fn latest_step(&self) -> &'static str {
        self.lines.last().map_or("book", |line| line.stage.name())
    }

    /// How bad it is, and the exit code for that: the earlier a step fails, the worse.
    pub(super) fn rank(&self) -> (u8, u8) {
        match self.failed() {
            Some(line) => (100 - line.stage as u8, self.code),
            None if self.is_well() => (0, 0),
            None => (1, 1),
        }
    }
}
