//! What a command asks of a machine, whatever it is spoken to by: run this, open a shell, move files, say who you are.
//!
//! SSH fills it: a [`Remote`] is a [`Trunk`], a [`Process`] one of its channels. What only SSH has (ports, agents, displays) is asked of
//! [`Remote::trunk`].

mod process;

use std::collections::VecDeque;
use std::time::Duration;

use lantern_book::{Presented, Rotation};
use lantern_ssh::SessionRequest;

use crate::program::Program;
use crate::{ByteStream, Captured, LinkError, Trunk, capture};

pub use process::{News, Process, Start};

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

    /// Starts a program: its streams, and what becomes of its start. Where the connection was made for it, it may have been started with the login.
    ///
    /// # Errors
    /// No session, no answer in time, or the connection was lost. That the program itself is refused comes as [`Start::news`].
    pub async fn start(&self, program: Program) -> Result<(Process, Start), LinkError> {
        let requests = program.requests();
        let (channel, mut replies) = match self.trunk.take_early(&program) {
            Some((channel, replies)) => (self.trunk.opened_session(channel).await?, VecDeque::from(replies)),
            None => {
                let channel = self.trunk.open_session().await?;
                let ask = |(request, wants_reply): &(SessionRequest, bool)| match wants_reply {
                    true => Some(channel.ask(request)),
                    false => {
                        channel.tell(request);
                        None
                    }
                };
                let replies = requests.iter().filter_map(ask).collect();
                (channel, replies)
            }
        };
        let mut start = Start::new(self.machine(), self.answer_limit());
        for (request, _) in requests.iter().filter(|(_, wants_reply)| *wants_reply) {
            if let Some(reply) = replies.pop_front() {
                start.await_answer(request, reply);
            }
        }
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
