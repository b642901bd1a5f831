//! A session of PowerShell in a shell of WS-Management (MS-PSRP 3.1.5.3): who carries what the session says, and brings what it is told.
//!
//! It is driven as a [`CommandShell`](crate::CommandShell) is, by [`Posts`](crate::Posts). Pipelines run one after the other; their names are ours, so that after a lost connection
//! it can be found out whether one began.

mod answers;
mod posts;

use std::collections::VecDeque;
use std::time::Duration;

use lantern_keys::{RandomSource, SystemRandom};

use crate::namespace::SESSIONS;
use crate::posting::{Poster, ServicePlace};
use crate::remoting::{
    FRAGMENT_HEAD, HostAnswer, HostCall, HostFacts, Kept, Objects, Pipeline, PipelineEnd, Session,
    SessionEvent,
};
use crate::{NewSession, NewShell, ShellError};

/// What a session has to know.
#[derive(Debug, Clone)]
pub struct SessionConfig {
    /// Where the service is.
    pub place: ServicePlace,
    /// The endpoint, by its name on the machine.
    pub endpoint: String,
    /// Our terminal.
    pub host: HostFacts,
    /// How long it stands when nobody asks anything; none: as long as the machine likes.
    pub idle_time: Option<Duration>,
    /// Whether the user's profile is left out.
    pub no_profile: bool,
    /// One that stands there already, to be joined.
    pub kept: Option<KeptSession>,
}

/// A session that stands on a machine, for whoever joins it again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptSession {
    shell: String,
    session: Kept,
}

/// What happened.
#[derive(Debug, Clone, PartialEq)]
pub enum SessionShellEvent {
    /// Something in the session.
    Session(SessionEvent),
    /// The connection was lost, and the session is looked for.
    LinkLost,
    /// It was found again.
    LinkBack,
    /// Something that the pipeline said may be missing.
    MayMiss,
    /// It cannot go on.
    Failed(ShellError),
    /// The shell is not there any more, or nothing can be done about it.
    Gone,
}

/// Where the session is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// There is no shell yet.
    New,
    /// There is one that stands there already, and is to be joined.
    Joining,
    /// There is one, and the session in it begins.
    Opening,
    /// Pipelines may run.
    Ready,
    /// The shell is not connected to us: to be taken up again.
    Left,
    /// It is over: the shell is to go.
    Over,
    /// The shell is gone.
    Gone,
}

/// How far the pipeline is on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Begun {
    /// It is to be posted.
    Not,
    /// It was posted, and the connection lost before an answer: whether it began is to be asked.
    Unsure,
    /// The machine has it.
    Yes,
}

struct Current {
    name: String,
    /// What begins it.
    fragments: VecDeque<Vec<u8>>,
    begun: Begun,
    /// Nothing follows it: the shell goes with it.
    is_last: bool,
}

/// The state machine of a session and its shell.
pub struct SessionShell {
    new_shell: NewShell,
    poster: Poster,
    session: Session,
    stage: Stage,
    current: Option<Current>,
    /// Pipelines that are over, whose remains are to go.
    remains: VecDeque<String>,
    stops: bool,
    /// Whether a question for the pipeline's output came to nothing, so that something of it may be lost.
    is_lost: bool,
    /// The same for that the session is open.
    opening_is_lost: bool,
    /// Whether the pool is to be asked whether it wants something.
    looks_at_pool: bool,
    /// Whether that was done for this pipeline.
    has_looked: bool,
    /// The end of a pipeline of which something is missing, until the pool was asked for that.
    held_end: Option<(SessionEvent, usize)>,
    untaken: usize,
    events: VecDeque<(SessionShellEvent, usize)>,
}

impl std::fmt::Debug for SessionShell {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SessionShell")
            .field("stage", &self.stage)
            .field("session", &self.session)
            .field(
                "under_way",
                &self.poster.in_flight.iter().map(|flight| flight.request.name()).collect::<Vec<_>>(),
            )
            .field("holds_end", &self.held_end.is_some())
            .field("is_lost", &self.is_lost)
            .field("untaken", &self.untaken)
            .finish_non_exhaustive()
    }
}

impl SessionShell {
    /// A session that nobody has been asked for yet.
    pub fn new(config: SessionConfig) -> Self {
        Self::with_random(config, || Box::new(SystemRandom))
    }

    /// The same, with a source of random bytes.
    pub fn with_random(config: SessionConfig, random: impl Fn() -> Box<dyn RandomSource + Send>) -> Self {
        let mut poster = Poster::new(config.place, format!("{SESSIONS}{}", config.endpoint), random());
        let largest = poster.room().max(FRAGMENT_HEAD + 1);
        let (mut stage, mut remains) = (Stage::New, VecDeque::new());
        let mut session = match config.kept {
            None => Session::new(config.host, largest, random()),
            Some(KeptSession { shell, session: kept }) => {
                poster.shell = Some(shell);
                stage = Stage::Joining;
                // What ran meanwhile, nobody listens to any more.
                remains.extend(kept.running.clone());
                Session::joined(&kept, config.host, largest, random())
            }
        };
        let creation = match stage {
            Stage::Joining => session.rejoining(),
            _ => session.creation(),
        };
        let new_session = NewSession { id: session.id(), creation: creation.into() };
        let new_shell = NewShell {
            no_profile: config.no_profile,
            idle_time: config.idle_time,
            session: Some(new_session),
            ..NewShell::default()
        };
        Self {
            new_shell,
            poster,
            session,
            stage,
            current: None,
            remains,
            stops: false,
            is_lost: false,
            opening_is_lost: false,
            looks_at_pool: false,
            has_looked: false,
            held_end: None,
            untaken: 0,
            events: VecDeque::new(),
        }
    }

    /// Runs a pipeline once the session takes one; `is_last`: the shell is ended with it. While another runs, it is not taken.
    pub fn begin(&mut self, pipeline: &Pipeline, is_last: bool) -> bool {
        if self.current.is_some() || matches!(self.stage, Stage::Over | Stage::Gone) {
            return false;
        }
        let (name, fragments) = self.session.begin(pipeline);
        self.current = Some(Current { name, fragments: fragments.into(), begun: Begun::Not, is_last });
        (self.stops, self.is_lost, self.looks_at_pool, self.has_looked) = (false, false, false, false);
        true
    }

    /// What is to be known of it to join it again; nothing, where the machine has none.
    pub fn kept(&self) -> Option<KeptSession> {
        let shell = self.poster.shell.clone()?;
        Some(KeptSession { shell, session: self.session.kept() })
    }

    /// Whether a pipeline runs, or is to.
    pub fn is_running(&self) -> bool {
        self.current.is_some()
    }

    /// How much input may be handed over now, in bytes.
    pub fn input_room(&self) -> usize {
        crate::limits::MAX_UNSENT.saturating_sub(self.session.unsent())
    }

    /// Sends objects into the pipeline.
    pub fn input(&mut self, objects: &Objects) {
        self.session.input(objects);
    }

    /// The pipeline gets no more.
    pub fn end_input(&mut self) {
        self.session.end_input();
    }

    /// Has the pipeline stop. Nobody's answer is waited for any more.
    pub fn stop(&mut self) {
        self.stops = self.current.is_some();
        self.session.give_up_questions();
    }

    /// Answers what the machine asked.
    ///
    /// # Errors
    /// No key could be made for a secret.
    pub fn answer(
        &mut self,
        call: &HostCall,
        answer: HostAnswer,
    ) -> Result<(), crate::remoting::RemotingError> {
        self.session.answer(call, answer)
    }

    /// Text is shown in another size from now on.
    pub fn resize(&mut self, width: u16, height: u16) {
        self.session.resize(width, height);
    }

    /// The next thing that happened, and how many bytes of the machine's it holds, for [`Self::consumed`].
    pub fn poll_event(&mut self) -> Option<(SessionShellEvent, usize)> {
        self.events.pop_front()
    }

    /// Notes that so many bytes have been used.
    pub fn consumed(&mut self, bytes: usize) {
        self.untaken = self.untaken.saturating_sub(bytes);
    }

    /// Hands on what happened in the session. The end of a pipeline waits where something is missing, until the pool was asked whether it has that.
    fn tell(&mut self) {
        while let Some((event, size)) = self.session.poll_event() {
            self.untaken += size;
            match &event {
                SessionEvent::Opened if matches!(self.stage, Stage::Opening | Stage::Joining) => {
                    self.stage = Stage::Ready;
                }
                // What was stopped had more to say.
                SessionEvent::Ended(PipelineEnd::Stopped) => {
                    self.session.settle_gap();
                    self.ended();
                }
                SessionEvent::Ended(_) if self.session.has_gap() => {
                    self.held_end = Some((event, size));
                    continue;
                }
                SessionEvent::Ended(_) => self.ended(),
                SessionEvent::Broken(_) if self.stage != Stage::Gone => self.stage = Stage::Over,
                _ => {}
            }
            self.events.push_back((SessionShellEvent::Session(event), size));
        }
    }

    /// The pool has told what it has: whatever is missing now will not come.
    fn release_end(&mut self) {
        let Some((event, size)) = self.held_end.take() else { return };
        if self.session.has_gap() {
            self.session.settle_gap();
            self.events.push_back((SessionShellEvent::MayMiss, 0));
        }
        self.ended();
        self.events.push_back((SessionShellEvent::Session(event), size));
    }

    fn ended(&mut self) {
        self.stops = false;
        match self.current.take() {
            Some(Current { is_last: true, .. }) if self.stage == Stage::Ready => self.stage = Stage::Over,
            Some(current) => self.remains.push_back(current.name),
            None => {}
        }
    }
}
