//! One command on a machine, from the shell that is made for it to the shell's end.
//!
//! Whoever drives this has a main connection, and opens a second one where something must be said while the machine holds the question for output. It asks
//! [`CommandShell::poll_post`] what to post on a connection that is free, hands the answer to [`CommandShell::handle_answer`], and takes what came of it
//! from [`CommandShell::poll_event`].

mod answers;
mod posts;

use std::collections::VecDeque;
use std::time::Duration;

use bytes::Bytes;
use lantern_keys::RandomSource;

use crate::ids::uuid;
use crate::limits::MAX_UNSENT;
use crate::{NewCommand, NewShell, Output, Request, Signal, WinrmError};

/// Code page 65001: UTF-8.
const UTF_8: u32 = 65_001;

/// What a command shell has to know.
#[derive(Debug, Clone)]
pub struct ShellConfig {
    /// The URL of the service, as its headers say it.
    pub url: String,
    /// The language of the machine's messages.
    pub language: String,
    /// The largest answers that are asked for, in bytes.
    pub max_envelope: u32,
    /// The shell.
    pub shell: NewShell,
    /// The command.
    pub command: NewCommand,
}

/// Something to be posted.
#[derive(Debug, Clone)]
pub struct Post {
    /// Its number, for the answer.
    pub number: u64,
    /// The envelope.
    pub body: String,
    /// What it asks for, in a word.
    pub what: &'static str,
    /// How long its answer may take; none: as long as a login's.
    pub limit: Option<Duration>,
}

/// Which connection is free.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lane {
    /// The one on which output is waited for.
    Main,
    /// The other.
    Side,
}

/// How much a second connection is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Wanted {
    /// There is nothing to say.
    Not,
    /// The end of input is to be said, to a program that may never ask.
    Soon,
    /// Now.
    Now,
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
    /// The connection was lost at a point from which nobody can tell what happened.
    #[error("the connection was lost when it was asked for {what}")]
    Lost {
        /// What it was asked for.
        what: &'static str,
    },
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

struct InFlight {
    number: u64,
    lane: Lane,
    request: Request,
    message_id: String,
}

/// The state machine of a command.
pub struct CommandShell {
    config: ShellConfig,
    random: Box<dyn RandomSource + Send>,
    session_id: String,
    stage: Stage,
    shell: Option<String>,
    command: String,
    in_flight: Vec<InFlight>,
    posted: u64,
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
            .field("shell", &self.shell)
            .finish_non_exhaustive()
    }
}

impl CommandShell {
    /// A command that nobody has been asked for yet. Its output is asked for in UTF-8 where the machine has that.
    pub fn new(mut config: ShellConfig, mut random: Box<dyn RandomSource + Send>) -> Self {
        config.shell.code_page.get_or_insert(UTF_8);
        let session_id = uuid(random.as_mut());
        Self {
            config,
            random,
            session_id,
            stage: Stage::New,
            shell: None,
            command: String::new(),
            in_flight: Vec::new(),
            posted: 0,
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

    /// Gives the command up: its shell is ended.
    pub fn close(&mut self) {
        self.stage = match (self.stage, &self.shell) {
            (Stage::Gone, _) => return,
            // A shell whose name has not been heard yet is heard of, and ended then.
            (_, None) if self.in_flight.is_empty() => {
                self.events.push_back(ShellEvent::Gone);
                Stage::Gone
            }
            _ => Stage::Over,
        };
        self.drop_input();
    }

    fn drop_input(&mut self) {
        self.unsent.clear();
        (self.unsent_bytes, self.input_over) = (0, true);
        self.signals.clear();
    }

    /// Whether the shell is gone.
    pub fn is_gone(&self) -> bool {
        self.stage == Stage::Gone
    }

    /// Whether a shell stands there that is to be ended.
    pub fn has_shell(&self) -> bool {
        self.shell.is_some() && self.stage != Stage::Gone
    }

    /// Whether the answer to this is being waited for.
    pub fn is_waiting(&self, number: u64) -> bool {
        self.in_flight.iter().any(|flight| flight.number == number)
    }
}
