//! What was found on the way to a machine.

use std::time::Duration;

use lantern_keys::CertificateFault;

use super::findings::{CheckError, Finding, Mend};
use crate::{LoginClues, Target};

/// The steps of a connection, in order. A later one cannot be taken when an earlier one fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// The book's entry.
    Book,
    /// The address of the name.
    Name,
    /// The way to its port.
    Port,
    /// What the service says it is.
    Identification,
    /// The algorithms in common.
    Algorithms,
    /// The key that it proved to hold.
    HostKey,
    /// Security around everything that is said, over WinRM.
    Tls,
    /// The certificate whose holder answered.
    Certificate,
    /// The ways to log in that it takes.
    Methods,
    /// The login.
    Login,
    /// A session.
    Session,
    /// A command in the user's shell.
    Shell,
    /// Its clock.
    Clock,
    /// The subsystem for files.
    Files,
    /// What it lets be forwarded.
    Forwarding,
    /// This computer's side.
    Local,
}

impl Stage {
    /// Its name, which scripts go by.
    pub fn name(self) -> &'static str {
        match self {
            Self::Book => "book",
            Self::Name => "name",
            Self::Port => "port",
            Self::Identification => "service",
            Self::Algorithms => "algorithms",
            Self::HostKey => "host key",
            Self::Tls => "TLS",
            Self::Certificate => "certificate",
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

    /// The step behind this one that a connection would have broken off at.
    pub(super) fn following(self) -> Self {
        match self {
            Self::Book | Self::Name => Self::Port,
            Self::Port => Self::Identification,
            Self::Identification => Self::Algorithms,
            Self::Algorithms | Self::HostKey | Self::Tls | Self::Certificate => Self::Methods,
            Self::Methods | Self::Login => Self::Login,
            later => later,
        }
    }
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Mark {
    /// As it should be.
    Good,
    /// Worth knowing.
    Note,
    /// Questionable, but the next step can be taken.
    Doubt,
    /// It failed, and the next step cannot be taken.
    Failed,
}

/// A step as it was taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// Which.
    pub stage: Stage,
    /// The gateway that it was about; none: the machine itself.
    pub gateway: Option<String>,
    /// How it went.
    pub mark: Mark,
    /// What was seen.
    pub saw: String,
    /// How long it took, where that says something.
    pub took: Option<Duration>,
    /// What there is to do about it, if anything.
    pub finding: Option<Finding>,
}

impl Line {
    /// A step that was taken at a machine or a gateway.
    pub(super) fn new(stage: Stage, mark: Mark, saw: impl Into<String>) -> Self {
        Self { stage, gateway: None, mark, saw: saw.into(), took: None, finding: None }
    }

    /// The same with the time that it took.
    pub(super) fn took(self, took: Duration) -> Self {
        Self { took: Some(took), ..self }
    }

    /// The same with something to do about it.
    pub(super) fn with(self, finding: Finding) -> Self {
        Self { finding: Some(finding), ..self }
    }
}

/// The step that failed, and why.
#[derive(Debug)]
pub struct Failed {
    /// Which.
    pub stage: Stage,
    /// The gateway that it failed at; none: the machine itself.
    pub gateway: Option<String>,
    /// Why.
    pub error: CheckError,
}

/// Everything about one machine.
#[derive(Debug, Default)]
pub struct Account {
    /// Its name.
    pub machine: String,
    /// Its first address and port.
    pub place: String,
    /// The book's entry, once it was found.
    pub target: Option<Target>,
    /// The steps, as they were taken.
    pub lines: Vec<Line>,
    /// Why the way ended early.
    pub failed: Option<Failed>,
    /// Where the machine would see us come from, when nothing came back from it and that is known here.
    pub source: Option<std::net::IpAddr>,
    /// What is known here about a login that was refused.
    pub clues: LoginClues,
    /// What is wrong with the certificate that was shown.
    pub certificate_faults: Vec<CertificateFault>,
    /// Another port of the service that was tried when the right one did not answer, and whether that one does.
    pub other_port: Option<(u16, bool)>,
}

impl Account {
    /// The account of a walk that was broken off.
    pub(super) fn broken_off(name: &str) -> Self {
        let failed = Failed { stage: Stage::Book, gateway: None, error: CheckError::BrokenOff };
        let line = Line::new(Stage::Book, Mark::Failed, failed.error.headline());
        Self { machine: name.to_owned(), lines: vec![line], failed: Some(failed), ..Self::default() }
    }

    /// The line of the step that failed.
    pub fn failed_line(&self) -> Option<&Line> {
        self.lines.iter().find(|line| line.mark == Mark::Failed)
    }

    /// The lines that are questionable.
    pub fn doubts(&self) -> impl Iterator<Item = &Line> {
        self.lines.iter().filter(|line| line.mark == Mark::Doubt)
    }

    /// Whether all is as it should be.
    pub fn is_well(&self) -> bool {
        self.lines.iter().all(|line| line.mark < Mark::Doubt)
    }

    /// The step that was taken last.
    pub fn latest_step(&self) -> Stage {
        self.lines.last().map_or(Stage::Book, |line| line.stage)
    }

    /// How bad it is: the earlier a step fails, the worse; 0 when all is well, 1 when something is questionable.
    pub fn severity(&self) -> u8 {
        match self.failed_line() {
            Some(line) => 100 - line.stage as u8,
            None if self.is_well() => 0,
            None => 1,
        }
    }

    /// What on this computer can be mended, each once.
    pub fn mends(&self) -> impl Iterator<Item = &Mend> {
        self.lines.iter().filter_map(|line| match &line.finding {
            Some(Finding::Mendable(mend)) => Some(mend),
            _ => None,
        })
    }
}
