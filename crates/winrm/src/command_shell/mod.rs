//! One command on a machine, from the shell that is made for it to the shell's end.
//!
//! Whoever drives this has a main connection, and opens a second one where something must be said while the machine holds the question for output. It asks
//! [`Posts::poll_post`](crate::Posts::poll_post) what to post on a connection that is free, hands the answer to [`Posts::handle_answer`](crate::Posts::handle_answer), and takes what came of it
//! from [`CommandShell::poll_event`].

mod answers;
mod posts;

use std::collections::VecDeque;

use bytes::Bytes;
use lantern_keys::RandomSource;

use crate::limits::MAX_UNSENT;
use crate::namespace::COMMAND_SHELL;
use crate::posting::{Poster, ServicePlace};
use crate::remoting::RemotingError;
use crate::{FaultKind, NewCommand, NewShell, Output, Request, Signal, WinrmError};

/// Code page 65001: UTF-8.
const UTF_8: u32 = 65_001;

/// What a command shell has to know.
#[derive(Debug, Clone)]
pub struct ShellConfig {
    /// Where the service is.
    pub place: ServicePlace,
    /// The shell.
    pub shell: NewShell,
    /// The command.
    pub command: NewCommand,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ShellEvent {
    /// The program runs.
    Started,
    /// It wrote.
    Output(Output, Bytes),
    /// It has ended, and all its output came before this.
    Ended {
        /// Its exit code; the machine may not know.
        exit: Option<u32>,
        /// Whether output may be missing, since a connection was lost while the machine held the question for it.
        may_miss: bool,
    },
    /// It cannot go on.
    Failed(ShellError),
    /// The shell is not there any more, or nothing can be done about it.
    Gone,
}

/// Why a command cannot go on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ShellError {
    /// The machine refused, or said something that makes no sense.
    #[error("when it was asked for {what}")]
    Refused {
        /// What it was asked for.
        what: &'static str,
        /// What it said.
        #[source]
        why: WinrmError,
    },
    /// What the session says makes no sense.
    #[error("the session cannot go on")]
    Session {
        /// What is wrong.
        #[source]
        why: RemotingError,
    },
    /// The connection was lost at a point from which nobody can tell what happened.
    #[error("the connection was lost when it was asked for {what}")]
    Lost {
        /// What it was asked for.
        what: &'static str,
    },
}

impl ShellError {
    /// That the machine refused this, and whether that is since the shell is gone.
    pub(crate) fn refused(request: &Request, why: WinrmError) -> (Self, bool) {
        let is_gone = matches!(&why, WinrmError::Fault(fault) if fault.kind() == FaultKind::ShellGone);
        (Self::Refused { what: request.name(), why }, is_gone)
    }
}

/// Where the command is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// There is no shell yet.
    New,
    /// There is a shell.
    HasShell,
    /// The command runs.
    Running,
    /// The shell is not connected to us: to be taken up again.
    Left,
    /// It is over: the shell is to go.
    Over,
    /// The shell is gone.
    Gone,
}

/// The state machine of a command.
pub struct CommandShell {
    new_shell: NewShell,
    new_command: NewCommand,
    poster: Poster,
    stage: Stage,
    command: String,
    unsent: VecDeque<Bytes>,
    unsent_bytes: usize,
    input_ended: bool,
    /// Whether the end of input was said, or nobody listens any more.
    input_over: bool,
    signals: VecDeque<Signal>,
    untaken: usize,
    lost_receive: bool,
    events: VecDeque<ShellEvent>,
}

impl std::fmt::Debug for CommandShell {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CommandShell")
            .field("stage", &self.stage)
            .field("shell", &self.poster.shell)
            .finish_non_exhaustive()
    }
}

impl CommandShell {
    /// A command that nobody has been asked for yet. Its output is asked for in UTF-8 where the machine has that.
    pub fn new(config: ShellConfig, random: Box<dyn RandomSource + Send>) -> Self {
        let ShellConfig { place, shell: mut new_shell, command: new_command } = config;
        new_shell.code_page.get_or_insert(UTF_8);
        Self {
            new_shell,
            new_command,
            poster: Poster::new(place, COMMAND_SHELL.to_owned(), random),
            stage: Stage::New,
            command: String::new(),
            unsent: VecDeque::new(),
            unsent_bytes: 0,
            input_ended: false,
            input_over: false,
            signals: VecDeque::new(),
            untaken: 0,
            lost_receive: false,
            events: VecDeque::new(),
        }
    }

    /// The next thing that happened.
    pub fn poll_event(&mut self) -> Option<ShellEvent> {
        self.events.pop_front()
    }

    /// How much input may be handed over now, in bytes.
    pub fn input_room(&self) -> usize {
        MAX_UNSENT.saturating_sub(self.unsent_bytes)
    }

    /// Hands input over; what nobody reads any more is dropped.
    pub fn send(&mut self, data: Bytes) {
        if !self.input_ended && !self.input_over && !data.is_empty() {
            self.unsent_bytes += data.len();
            self.unsent.push_back(data);
        }
    }

    /// Whether input still has somebody who may read it.
    pub fn takes_input(&self) -> bool {
        !self.input_over && !self.input_ended && !matches!(self.stage, Stage::Over | Stage::Gone)
    }

    /// Input has ended.
    pub fn end_input(&mut self) {
        self.input_ended = true;
    }

    /// Tells the command something, once it runs.
    pub fn signal(&mut self, signal: Signal) {
        // One that waits is as good as two.
        if !self.signals.contains(&signal) && !matches!(self.stage, Stage::Over | Stage::Gone) {
            self.signals.push_back(signal);
        }
    }

    /// Notes that so many bytes of output have been used.
    pub fn consumed(&mut self, bytes: usize) {
        self.untaken = self.untaken.saturating_sub(bytes);
    }

    fn drop_input(&mut self) {
        self.unsent.clear();
        (self.unsent_bytes, self.input_over) = (0, true);
        self.signals.clear();
    }

    /// Whether the answer to this is being waited for.
    pub fn is_waiting(&self, number: u64) -> bool {
        self.poster.in_flight.iter().any(|flight| flight.number == number)
    }
}
