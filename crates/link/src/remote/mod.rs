//! What a command asks of a machine, whatever it is spoken to by: run this, open a shell, move files, say who you are.
//!
//! SSH fills it: a [`Remote`] is a [`Trunk`], a [`Process`] one of its channels. What only SSH has (ports, agents, displays) is asked of
//! [`Remote::trunk`].

mod process;

use std::time::Duration;

use bytes::Bytes;
use lantern_book::Rotation;
use lantern_keys::PublicKey;
use lantern_ssh::{DisplayRequest, PtyRequest, SessionRequest};

use crate::{ByteStream, Captured, LinkError, Trunk, capture};

pub use process::{News, Process, Start};

/// What a program runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Runs {
    /// The user's shell.
    Shell,
    /// A command, which the user's shell reads.
    Command(Bytes),
}

/// A program to be started.
#[derive(Debug, Clone)]
pub struct Program {
    /// What it runs.
    pub runs: Runs,
    /// Variables; the machine takes those that it is set up to take.
    pub environment: Vec<(String, String)>,
    /// The terminal that it has, if any.
    pub terminal: Option<PtyRequest>,
    /// Whether it may ask the agent, which has been granted.
    pub agent: bool,
    /// What it is told of a display, which has been granted.
    pub display: Option<DisplayRequest>,
}

/// What a machine proved to be.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Presented {
    /// The holder of this host key.
    HostKey(PublicKey),
}

/// Who a machine is, and as whom we are there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// The machine, as the user calls it.
    pub machine: String,
    /// The user logged in as.
    pub user: String,
    /// What it proved to be.
    pub presented: Option<Presented>,
    /// What its service calls itself, as it sent it.
    pub service: String,
}

/// A machine that is logged in to. Clones are the same connection; the last one that goes ends it.
#[derive(Debug, Clone)]
pub struct Remote {
    trunk: Trunk,
}

impl From<Trunk> for Remote {
    fn from(trunk: Trunk) -> Self {
        Self { trunk }
    }
}

impl Remote {
    /// The connection, for what only SSH has.
    pub fn trunk(&self) -> &Trunk {
        &self.trunk
    }

    /// The machine, as the user calls it.
    pub fn machine(&self) -> &str {
        self.trunk.machine()
    }

    /// Who it is.
    pub fn identity(&self) -> Identity {
        Identity {
            machine: self.trunk.machine().to_owned(),
            user: self.trunk.user().to_owned(),
            presented: self.trunk.host_key().map(Presented::HostKey),
            service: self.trunk.account().identification,
        }
    }

    /// Starts a program: its streams, and what becomes of its start.
    ///
    /// # Errors
    /// No session, no answer in time, or the connection was lost. That the program itself is refused comes as [`Start::news`].
    pub async fn start(&self, program: Program) -> Result<(Process, Start), LinkError> {
        let channel = self.trunk.open_session().await?;
        for (name, value) in program.environment {
            channel.tell(&SessionRequest::Env { name, value });
        }
        let mut start = Start::new(self.machine(), self.answer_limit());
        if program.agent {
            start.await_agent(channel.ask(&SessionRequest::ForwardAgent));
        }
        if let Some(display) = program.display {
            start.await_display(channel.ask(&SessionRequest::Display(display)));
        }
        if let Some(terminal) = program.terminal {
            start.await_part("pty-req", channel.ask(&SessionRequest::Pty(terminal)));
        }
        let (request, name) = match program.runs {
            Runs::Shell => (SessionRequest::Shell, "shell"),
            Runs::Command(command) => (SessionRequest::Exec(command.into()), "exec"),
        };
        start.await_program(name, channel.ask(&request));
        Ok((Process::new(channel), start))
    }

    /// Runs a short command with this input and reads what it says.
    ///
    /// # Errors
    /// As [`capture`].
    pub async fn capture(&self, command: &str, input: &[u8]) -> Result<Captured, LinkError> {
        capture(&self.trunk, command, input).await
    }

    /// The stream that files are moved by; none when the machine has no such service.
    ///
    /// # Errors
    /// No session, no answer in time, or the connection was lost.
    pub async fn files(&self) -> Result<Option<Box<dyn ByteStream>>, LinkError> {
        let channel = self.trunk.open_session().await?;
        Ok(match channel.request(&SessionRequest::Subsystem("sftp".to_owned())).await? {
            true => Some(Box::new(channel)),
            false => None,
        })
    }

    /// How long the machine may take to answer something that it is asked for.
    pub fn answer_limit(&self) -> Duration {
        self.trunk.answer_limit()
    }

    /// What the machine's announcements of host keys have changed in the trust store, told once.
    pub fn take_rotations(&self) -> Vec<Rotation> {
        self.trunk.take_rotations()
    }

    /// Says goodbye and closes, within a second.
    pub async fn close(self) {
        self.trunk.close().await;
    }
}
