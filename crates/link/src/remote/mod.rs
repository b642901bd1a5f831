//! What a command asks of a machine, whatever it is spoken to by: run this, open a shell, move files, say who you are.
//!
//! SSH fills it: a [`Remote`] is a [`Trunk`], a [`Process`] one of its channels. WinRM fills it: a [`Process`] is a command in a shell of its own. What
//! only SSH has (ports, agents, displays) is asked of [`Remote::trunk`].

mod process;
mod start;

use std::collections::VecDeque;
use std::time::Duration;

use lantern_book::{Presented, Rotation};
use lantern_keys::CertificateFault;
use lantern_ssh::SessionRequest;

use crate::files::FILE_SERVER;
use crate::identity::Identity;
use crate::privilege::Privilege;
use crate::program::{CommandWords, Program, Runs};
use crate::winrm::{
    RemoteSession, SessionOptions, ShownChain, WinrmFailure, WinrmRemote, WinrmRequest, look_at_chain,
};
use crate::{Ask, Captured, ConnectRequest, Files, FilesError, LinkError, Trunk, capture};

pub use process::{InputEnded, Process, ProcessEnd};
pub use start::{News, Start};

/// What only machines of POSIX have.
pub const ACTING: &str = "program by which one user acts as another";

/// What a connection needs to know beforehand, for either protocol.
#[derive(Debug, Clone)]
pub enum RemoteRequest {
    /// By SSH.
    Ssh(Box<ConnectRequest>),
    /// By WinRM.
    Winrm(Box<WinrmRequest>),
}

impl RemoteRequest {
    /// The way there, and who it is.
    pub fn way(&self) -> &ConnectRequest {
        match self {
            Self::Ssh(request) => request,
            Self::Winrm(request) => &request.way,
        }
    }

    /// What the machine presents now, without logging in to it.
    ///
    /// # Errors
    /// The step that failed.
    pub async fn look(&self, ask: &dyn Ask) -> Result<Seen, LinkError> {
        match self {
            Self::Ssh(request) => {
                let keys = crate::probe_host_keys(request, ask).await?;
                Ok(Seen { presented: keys.into_iter().map(Presented::HostKey).collect(), faults: Vec::new() })
            }
            Self::Winrm(request) => {
                let ShownChain { certificate, faults, .. } = look_at_chain(request, ask).await?;
                Ok(Seen { presented: vec![certificate.into()], faults })
            }
        }
    }
}

/// What a machine presents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// Its host keys, the one that it prefers first; or its certificate.
    pub presented: Vec<Presented>,
    /// What is wrong with the certificate.
    pub faults: Vec<CertificateFault>,
}

/// A machine that is logged in to. Clones are the same connection; the last one that goes ends it.
#[derive(Debug, Clone)]
pub struct Remote(By);

#[derive(Debug, Clone)]
enum By {
    Ssh(Trunk),
    Winrm(WinrmRemote),
}

impl From<Trunk> for Remote {
    fn from(trunk: Trunk) -> Self {
        Self(By::Ssh(trunk))
    }
}

impl Remote {
    /// Reaches a machine and logs in.
    ///
    /// # Errors
    /// The step that failed.
    pub async fn connect(request: &RemoteRequest, ask: &dyn Ask) -> Result<Self, LinkError> {
        Ok(Self(match request {
            RemoteRequest::Ssh(request) => By::Ssh(crate::connect(request, ask).await?),
            RemoteRequest::Winrm(request) => By::Winrm(WinrmRemote::connect((**request).clone(), ask).await?),
        }))
    }

    /// The connection, for what only SSH has.
    pub fn trunk(&self) -> Option<&Trunk> {
        match &self.0 {
            By::Ssh(trunk) => Some(trunk),
            By::Winrm(_) => None,
        }
    }

    /// The same, for whoever cannot do without.
    ///
    /// # Errors
    /// There is no `what` over this protocol.
    pub fn trunk_for(&self, what: &'static str) -> Result<&Trunk, LinkError> {
        self.trunk().ok_or_else(|| WinrmFailure::HasNo { machine: self.machine().to_owned(), what }.into())
    }

    /// The machine, as the user calls it.
    pub fn machine(&self) -> &str {
        match &self.0 {
            By::Ssh(trunk) => trunk.machine(),
            By::Winrm(remote) => remote.machine(),
        }
    }

    /// Who it is.
    pub fn identity(&self) -> Identity {
        match &self.0 {
            By::Ssh(trunk) => Identity {
                machine: trunk.machine().to_owned(),
                user: trunk.user().to_owned(),
                presented: trunk.host_key().map(Presented::HostKey),
                service: trunk.account().identification,
            },
            By::Winrm(remote) => remote.identity(),
        }
    }

    /// What its service says it is, where that is asked for by itself: over WinRM, and it is the first thing that needs a login.
    ///
    /// # Errors
    /// The login was refused; no answer, or one that makes no sense.
    pub async fn identify(&self, ask: &dyn Ask) -> Result<Option<lantern_winrm::Identity>, LinkError> {
        match &self.0 {
            By::Ssh(_) => Ok(None),
            By::Winrm(remote) => remote.identify(ask).await.map(Some),
        }
    }

    /// Starts a program: its streams, and what becomes of its start. Where the connection was made for it, it may have been started with the login.
    ///
    /// # Errors
    /// No session, no answer in time, or the connection was lost. That the program itself is refused comes as [`Start::news`].
    pub async fn start(&self, program: Program) -> Result<(Process, Start), LinkError> {
        let trunk = match &self.0 {
            By::Ssh(trunk) => trunk,
            By::Winrm(remote) => {
                let command = remote.start(&program).await?;
                return Ok((Process::of_command(command.clone()), Start::of_command(command)));
            }
        };
        let requests = program.requests();
        let (channel, mut replies) = match trunk.take_early(&program) {
            Some((channel, replies)) => (trunk.opened_session(channel).await?, VecDeque::from(replies)),
            None => {
                let channel = trunk.open_session().await?;
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
        Ok((Process::of_channel(channel, trunk.machine()), start))
    }

    /// Opens a session of PowerShell.
    ///
    /// # Errors
    /// No connection; there is none over SSH.
    pub async fn session(&self, options: SessionOptions) -> Result<RemoteSession, LinkError> {
        match &self.0 {
            By::Ssh(trunk) => Err(WinrmFailure::NotWinrm { machine: trunk.machine().to_owned() }.into()),
            By::Winrm(remote) => remote.session(options).await,
        }
    }

    /// Runs a short command of a POSIX shell with this input and reads what it says.
    ///
    /// # Errors
    /// As [`capture`].
    pub async fn capture(&self, command: &str, input: &[u8]) -> Result<Captured, LinkError> {
        capture(self.trunk_for("shell of POSIX")?, command, input).await
    }

    /// Its files.
    ///
    /// # Errors
    /// The machine serves none; no session, no answer in time, or the connection was lost.
    pub async fn files(&self) -> Result<Files, FilesError> {
        match &self.0 {
            By::Ssh(trunk) => Files::begin(trunk).await,
            By::Winrm(remote) => Files::of_windows(remote).await,
        }
    }

    /// Its files, as another of its users sees them.
    ///
    /// # Errors
    /// As [`Self::files`], and that the machine does not let this user act as the other.
    pub async fn files_as(&self, other: &str, ask: &dyn Ask) -> Result<Files, FilesError> {
        let process = self.start_as(other, &CommandWords::line(FILE_SERVER), ask).await?;
        Files::of_process(process, self.trunk_for(ACTING)?).await
    }

    /// Starts a command as another user, through the machine's own program for that.
    ///
    /// # Errors
    /// As [`Self::start`], and that the machine does not let this user act as the other.
    pub async fn start_as(
        &self,
        other: &str,
        words: &CommandWords,
        ask: &dyn Ask,
    ) -> Result<Process, LinkError> {
        let trunk = self.trunk_for(ACTING)?;
        let privilege = Privilege::of(other);
        let program = Program::alone(Runs::Command(privilege.around(words)));
        let (process, mut start) = self.start(program).await?;
        start.settle().await?;
        privilege.enter(&process, trunk, ask).await?;
        Ok(process)
    }

    /// How long the machine may take to answer something that it is asked for.
    pub fn answer_limit(&self) -> Duration {
        match &self.0 {
            By::Ssh(trunk) => trunk.answer_limit(),
            By::Winrm(remote) => remote.answer_limit(),
        }
    }

    /// What the machine's announcements of host keys have changed in the trust store, told once.
    pub fn take_rotations(&self) -> Vec<Rotation> {
        self.trunk().map(Trunk::take_rotations).unwrap_or_default()
    }

    /// Says goodbye and closes, within a second; shells of WinRM are ended first, which may take a few.
    pub async fn close(self) {
        match self.0 {
            By::Ssh(trunk) => trunk.close().await,
            By::Winrm(remote) => remote.close().await,
        }
    }
}
