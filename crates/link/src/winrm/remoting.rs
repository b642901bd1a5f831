//! A session of PowerShell on a machine, as whoever opened it holds it. A task owns its connections, and shares its state machine with this.

use std::collections::VecDeque;
use std::sync::Arc;

use lantern_winrm::remoting::{HostAnswer, HostCall, Objects, Pipeline, RemotingError, SessionEvent};
use lantern_winrm::{KeptSession, Posts, SessionShell, SessionShellEvent};

use super::driver::{Done, Driver};
use super::failure::WinrmFailure;
use super::opener::Opener;
use super::session::Session;
use super::shared::{Carried, Handle, Shared, failure};

/// What is heard of a session.
#[derive(Debug, Clone)]
pub enum SessionNews {
    /// Something happened in it.
    Event(SessionEvent),
    /// The connection was lost, and the machine is looked for.
    LinkLost,
    /// It was found, and the session goes on.
    LinkBack,
    /// What the pipeline said meanwhile may be missing.
    MayMiss,
    /// It is over: it cannot go on, or was closed.
    Over(Option<WinrmFailure>),
}

/// A session as it is.
struct State {
    shell: SessionShell,
    news: VecDeque<(SessionNews, usize)>,
    end: Option<Option<WinrmFailure>>,
    is_dropped: bool,
}

impl Carried for State {
    fn posts(&mut self) -> &mut dyn Posts {
        &mut self.shell
    }

    fn settle(&mut self, machine: &str) {
        while let Some((event, size)) = self.shell.poll_event() {
            if self.is_dropped {
                self.shell.consumed(size);
                continue;
            }
            let news = match event {
                SessionShellEvent::Session(SessionEvent::Broken(why)) => {
                    let machine = machine.to_owned();
                    self.fail(WinrmFailure::SessionBroke { machine, why });
                    continue;
                }
                SessionShellEvent::Session(event) => SessionNews::Event(event),
                SessionShellEvent::LinkLost => SessionNews::LinkLost,
                SessionShellEvent::LinkBack => SessionNews::LinkBack,
                SessionShellEvent::MayMiss => SessionNews::MayMiss,
                SessionShellEvent::Failed(error) => {
                    self.fail(failure(machine, error));
                    continue;
                }
                SessionShellEvent::Gone => {
                    self.end.get_or_insert(None);
                    continue;
                }
            };
            self.news.push_back((news, size));
        }
    }

    fn fail(&mut self, failure: WinrmFailure) {
        self.end.get_or_insert(Some(failure));
    }

    fn has_ended(&self) -> bool {
        self.end.is_some()
    }

    fn is_dropped(&self) -> bool {
        self.is_dropped
    }

    fn drop_it(&mut self) {
        self.is_dropped = true;
    }
}

/// A session. Clones are the same one; when the last goes, it is ended.
#[derive(Clone)]
pub struct RemoteSession {
    handle: Arc<Handle<State>>,
}

impl std::fmt::Debug for RemoteSession {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("RemoteSession").field(&self.shared().lock().shell).finish()
    }
}

impl RemoteSession {
    /// Starts a task for it, which begins on this connection. `done` hears of its end.
    pub(super) fn start(opener: Arc<Opener>, session: Session, shell: SessionShell, done: Done) -> Self {
        let state = State { shell, news: VecDeque::new(), end: None, is_dropped: false };
        let shared = Arc::new(Shared::new(opener.request.way.machine.clone(), state));
        tokio::spawn(Driver::new(shared.clone(), opener, done).run(session));
        Self { handle: Arc::new(Handle(shared)) }
    }

    fn shared(&self) -> &Shared<State> {
        &self.handle.0
    }

    /// The machine, as the user calls it.
    pub fn machine(&self) -> &str {
        &self.shared().machine
    }

    /// What is to be known of it to join it again, when it was lost; nothing, where the machine has none.
    pub fn kept(&self) -> Option<KeptSession> {
        self.shared().lock().shell.kept()
    }

    /// Runs a pipeline; `is_last`: the session is ended with it. While another runs, or where the session is over, it is not taken.
    pub fn begin(&self, pipeline: &Pipeline, is_last: bool) -> bool {
        self.shared().change(|state| state.shell.begin(pipeline, is_last))
    }

    /// The next that is heard; once it is over, that again and again. Dropping the future loses nothing.
    pub async fn next(&self) -> SessionNews {
        let next = |state: &mut State| match state.news.pop_front() {
            Some(next) => Some(next),
            None => state.end.clone().map(|end| (SessionNews::Over(end), 0)),
        };
        let (news, size) = self.shared().until(next).await;
        if size > 0 {
            self.shared().change(|state| state.shell.consumed(size));
        }
        news
    }

    /// Waits until there is room for more input; whether anybody takes it.
    pub async fn takes_input(&self) -> bool {
        let takes = |state: &mut State| match (
            state.end.is_some() || !state.shell.is_running(),
            state.shell.input_room(),
        ) {
            (true, _) => Some(false),
            (false, 0) => None,
            (false, _) => Some(true),
        };
        self.shared().until(takes).await
    }

    /// Sends objects into the pipeline.
    pub fn input(&self, objects: &Objects) {
        self.shared().change(|state| state.shell.input(objects));
    }

    /// The pipeline gets no more.
    pub fn end_input(&self) {
        self.shared().change(|state| state.shell.end_input());
    }

    /// Has the pipeline stop.
    pub fn stop(&self) {
        self.shared().change(|state| state.shell.stop());
    }

    /// Answers what the machine asked.
    ///
    /// # Errors
    /// No key could be made for a secret.
    pub fn answer(&self, call: &HostCall, answer: HostAnswer) -> Result<(), RemotingError> {
        self.shared().change(|state| state.shell.answer(call, answer))
    }

    /// Text is shown in another size from now on.
    pub fn resize(&self, width: u16, height: u16) {
        self.shared().change(|state| state.shell.resize(width, height));
    }

    /// Ends it.
    pub fn close(&self) {
        self.shared().change(|state| state.shell.close());
    }
}
