//! A command on a machine that is spoken to by WinRM: a task owns its connections, and handles share its state machine with it.

use std::collections::VecDeque;
use std::future::pending;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_ssh::Stream;
use lantern_winrm::{CommandShell, Lane, Output, Post, ShellError, ShellEvent, Signal, Wanted};
use tokio::sync::Notify;
use tokio::time::{sleep, timeout};
use tracing::debug;

use super::failure::WinrmFailure;
use super::opener::Opener;
use super::session::{PostError, Session};

/// How long the end of input waits for the main connection before a second one is made for it: most commands have ended by then, and a login costs more.
const PATIENCE: Duration = Duration::from_millis(250);
/// How long the machine has to end a shell when all else is over.
const GOODBYE: Duration = Duration::from_secs(5);
/// How long a machine that was lost is looked for.
const LOST_FOR: Duration = Duration::from_secs(60);
/// How long to wait between two looks, at first.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
/// And later.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);

/// How a command ended.
#[derive(Debug, Clone)]
pub(crate) enum CommandEnd {
    /// By itself, with this code.
    Exited(u32),
    /// The machine does not know its code.
    Unknown,
    /// It cannot be told.
    Failed(WinrmFailure),
}

struct State {
    shell: CommandShell,
    /// What it wrote, on its two streams.
    out: [VecDeque<Bytes>; 2],
    started: bool,
    end: Option<CommandEnd>,
    /// Whether nobody holds it any more.
    is_dropped: bool,
}

/// What the task and the handles share.
pub(crate) struct Shared {
    machine: String,
    state: Mutex<State>,
    /// For the task: there is something to be done.
    wake: Notify,
    /// For whoever waits: something happened.
    heard: Notify,
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until `ready` says something. Dropping the future loses nothing.
    async fn until<T>(&self, mut ready: impl FnMut(&mut State) -> Option<T>) -> T {
        loop {
            let mut heard = std::pin::pin!(self.heard.notified());
            // Before the look: what happens after it is heard.
            heard.as_mut().enable();
            if let Some(found) = ready(&mut self.lock()) {
                return found;
            }
            heard.await;
        }
    }
}

/// A command under way. Clones are the same one; when the last goes, it is given up.
#[derive(Clone)]
pub(crate) struct WinrmCommand {
    handle: Arc<Handle>,
}

struct Handle(Arc<Shared>);

impl Drop for Handle {
    fn drop(&mut self) {
        let mut state = self.0.lock();
        state.is_dropped = true;
        state.shell.close();
        drop(state);
        self.0.wake.notify_one();
    }
}

impl WinrmCommand {
    /// Starts a task for it, which begins on this connection. `done` hears of its end.
    pub(super) fn start(opener: Arc<Opener>, session: Session, shell: CommandShell, done: Done) -> Self {
        let state = State { shell, out: Default::default(), started: false, end: None, is_dropped: false };
        let shared = Arc::new(Shared {
            machine: opener.request.way.machine.clone(),
            state: Mutex::new(state),
            wake: Notify::new(),
            heard: Notify::new(),
        });
        let driver = Driver { shared: shared.clone(), opener, _done: done, lost_since: None };
        tokio::spawn(driver.run(session));
        Self { handle: Arc::new(Handle(shared)) }
    }

    fn shared(&self) -> &Shared {
        &self.handle.0
    }

    pub(crate) async fn next(&self, stream: Stream) -> Option<Bytes> {
        let index = usize::from(stream == Stream::Stderr);
        let shared = self.shared();
        shared
            .until(|state| match state.out[index].pop_front() {
                Some(piece) => Some(Some(piece)),
                None if state.end.is_some() => Some(None),
                None => None,
            })
            .await
    }

    pub(crate) fn consumed(&self, bytes: usize) {
        self.shared().lock().shell.consumed(bytes);
        self.shared().wake.notify_one();
    }

    /// Hands input over as far as there is room; whether anybody takes input.
    pub(crate) async fn send(&self, data: &mut Bytes) -> bool {
        while !data.is_empty() {
            let taken = self
                .shared()
                .until(|state| {
                    if !state.shell.takes_input() {
                        return Some(None);
                    }
                    let room = state.shell.input_room().min(data.len());
                    (room > 0).then_some(Some(room))
                })
                .await;
            let Some(room) = taken else { return false };
            self.shared().lock().shell.send(data.split_to(room));
            self.shared().wake.notify_one();
        }
        true
    }

    pub(crate) fn send_eof(&self) {
        self.shared().lock().shell.end_input();
        self.shared().wake.notify_one();
    }

    pub(crate) fn signal(&self, name: &str) {
        let signal = match name {
            "INT" => Signal::Interrupt,
            _ => Signal::Terminate,
        };
        self.shared().lock().shell.signal(signal);
        self.shared().wake.notify_one();
    }

    pub(crate) fn close(&self) {
        self.shared().lock().shell.close();
        self.shared().wake.notify_one();
    }

    pub(crate) async fn ended(&self) -> CommandEnd {
        self.shared().until(|state| state.end.clone()).await
    }

    /// Waits until the program runs, or is known not to.
    pub(crate) async fn started(&self) -> Result<(), WinrmFailure> {
        self.shared()
            .until(|state| match &state.end {
                _ if state.started => Some(Ok(())),
                Some(CommandEnd::Failed(failure)) => Some(Err(failure.clone())),
                Some(_) => Some(Ok(())),
                None => None,
            })
            .await
    }
}

/// Dropped at the end of a task: whoever closes the connection waits for that.
pub(super) type Done = tokio::sync::mpsc::Sender<()>;

/// What owns the connections of a command.
struct Driver {
    shared: Arc<Shared>,
    opener: Arc<Opener>,
    _done: Done,
    lost_since: Option<Instant>,
}

/// A connection, free or with something under way, or none.
#[derive(Default)]
enum Line {
    #[default]
    None,
    Free(Box<Session>),
    Busy(Busy),
    Opening(Opening),
}

type Busy = std::pin::Pin<Box<dyn Future<Output = (Box<Session>, u64, Result<Bytes, PostError>)> + Send>>;
type Opening = std::pin::Pin<Box<dyn Future<Output = Result<Box<Session>, crate::LinkError>> + Send>>;

/// What came of waiting.
enum Came {
    Answer(u64, Result<Bytes, PostError>),
    Opened(Option<crate::LinkError>),
}

impl Line {
    /// The next thing that comes of it; never, where nothing is under way. Dropping the future loses nothing.
    async fn next(&mut self) -> Came {
        match self {
            Self::Busy(busy) => {
                let (session, number, answer) = busy.await;
                *self = match session.is_open() && answer.is_ok() {
                    true => Self::Free(session),
                    false => Self::None,
                };
                Came::Answer(number, answer)
            }
            Self::Opening(opening) => {
                let opened = opening.await;
                let (line, error) = match opened {
                    Ok(session) => (Self::Free(session), None),
                    Err(error) => (Self::None, Some(error)),
                };
                *self = line;
                Came::Opened(error)
            }
            Self::None | Self::Free(_) => pending().await,
        }
    }
}

impl Driver {
    async fn run(mut self, first: Session) {
        let (mut main, mut side) = (Line::Free(Box::new(first)), Line::None);
        let mut soon = None;
        loop {
            self.tell();
            if self.shared.lock().shell.is_gone() {
                break;
            }
            self.post(&mut main, Lane::Main);
            self.post(&mut side, Lane::Side);
            let wanted = match (&main, &side) {
                // Whatever is on the main connection holds it.
                (Line::Busy(_), Line::None) => self.shared.lock().shell.wants_side(),
                _ => Wanted::Not,
            };
            match (wanted, soon) {
                (Wanted::Now, _) => {
                    side = self.open(Duration::ZERO);
                    continue;
                }
                (Wanted::Soon, None) => soon = Some(Instant::now() + PATIENCE),
                (Wanted::Soon, Some(at)) if at <= Instant::now() => {
                    side = self.open(Duration::ZERO);
                    soon = None;
                    continue;
                }
                (Wanted::Soon, Some(_)) => {}
                (Wanted::Not, _) => soon = None,
            }
            let is_over = {
                let state = self.shared.lock();
                state.is_dropped || state.end.is_some()
            };
            let goodbye = if is_over { GOODBYE } else { Duration::MAX };
            let came = async {
                tokio::select! {
                    came = main.next() => Some((Lane::Main, came)),
                    came = side.next() => Some((Lane::Side, came)),
                    () = self.shared.wake.notified() => None,
                    () = sleep_until(soon) => None,
                }
            };
            match timeout(goodbye, came).await {
                Ok(Some((lane, came))) => self.take(lane, came, &mut main),
                Ok(None) => {}
                // The machine ends it when its time is over.
                Err(_) => self.shared.lock().shell.handle_unreachable(),
            }
        }
        self.tell();
    }

    fn open(&self, pause: Duration) -> Line {
        let opener = self.opener.clone();
        Line::Opening(Box::pin(async move {
            sleep(pause).await;
            opener.again().await.map(Box::new)
        }))
    }

    /// Posts what is to be posted on a connection that is free.
    fn post(&self, line: &mut Line, lane: Lane) {
        let Line::Free(_) = line else { return };
        let post = {
            let mut state = self.shared.lock();
            match state.shell.poll_post(lane) {
                Ok(Some(post)) => post,
                Ok(None) => return,
                Err(why) => {
                    let (machine, what) = (self.shared.machine.clone(), "what cannot be sent");
                    state.end.get_or_insert(CommandEnd::Failed(WinrmFailure::Answer {
                        machine,
                        what,
                        source: why,
                    }));
                    state.shell.close();
                    drop(state);
                    self.shared.heard.notify_waiters();
                    return;
                }
            }
        };
        if let Line::Free(session) = std::mem::take(line) {
            *line = Line::Busy(Box::pin(carry(self.opener.clone(), session, post)));
        }
    }

    fn take(&mut self, lane: Lane, came: Came, main: &mut Line) {
        match came {
            Came::Answer(number, Ok(answer)) => {
                self.lost_since = None;
                self.shared.lock().shell.handle_answer(number, &answer);
            }
            Came::Answer(number, Err(PostError::Failure(failure))) => {
                self.fail(number, failure);
                // The shell is to be ended all the same.
                if lane == Lane::Main && self.shared.lock().shell.has_shell() {
                    *main = self.open(Duration::ZERO);
                }
            }
            Came::Answer(number, Err(PostError::Lost { is_amid, why })) => {
                debug!(why, is_amid, "a connection was lost");
                self.shared.lock().shell.handle_lost(number, is_amid);
                if lane == Lane::Main && !self.shared.lock().shell.is_gone() {
                    self.look_again(main);
                }
            }
            Came::Opened(None) => {}
            // What was to be said waits; the main connection tells how it goes on.
            Came::Opened(Some(error)) if lane == Lane::Side => {
                debug!(error = crate::error::chain(&error), "no second connection");
                let machine = self.shared.machine.clone();
                self.end_with(WinrmFailure::Lost { machine, why: crate::error::chain(&error) });
            }
            Came::Opened(Some(error)) => {
                debug!(error = crate::error::chain(&error), "the machine is not reached");
                self.look_again(main);
            }
        }
    }

    /// Looks for a machine that was lost: at once, and then less and less often, until it has been gone for too long or nobody waits for it.
    fn look_again(&mut self, main: &mut Line) {
        let (pause, is_over) = match self.lost_since {
            None => (Duration::ZERO, false),
            Some(since) => {
                (FIRST_PAUSE.max(since.elapsed() / 2).min(LONGEST_PAUSE), since.elapsed() > LOST_FOR)
            }
        };
        self.lost_since.get_or_insert_with(Instant::now);
        let mut state = self.shared.lock();
        // For the end of a shell one look is enough.
        let is_enough = state.end.is_some() && pause > Duration::ZERO;
        match is_over || is_enough || !state.shell.has_shell() {
            true => state.shell.handle_unreachable(),
            false => *main = self.open(pause),
        }
    }

    /// A post came to nothing for a reason that another one would meet too.
    fn fail(&self, number: u64, failure: WinrmFailure) {
        self.end_with(failure);
        self.shared.lock().shell.handle_lost(number, true);
        if !self.shared.lock().shell.has_shell() {
            self.shared.lock().shell.handle_unreachable();
        }
    }

    fn end_with(&self, failure: WinrmFailure) {
        let mut state = self.shared.lock();
        state.end.get_or_insert(CommandEnd::Failed(failure));
        state.shell.close();
        drop(state);
        self.shared.heard.notify_waiters();
    }

    /// Hands on what has happened.
    fn tell(&self) {
        let mut state = self.shared.lock();
        while let Some(event) = state.shell.poll_event() {
            match event {
                ShellEvent::Started => state.started = true,
                ShellEvent::Output(output, piece) => {
                    let index = usize::from(output == Output::Error);
                    match state.is_dropped {
                        true => state.shell.consumed(piece.len()),
                        false => state.out[index].push_back(piece),
                    }
                }
                ShellEvent::Ended { exit, may_miss: false } => {
                    state.end.get_or_insert(exit.map_or(CommandEnd::Unknown, CommandEnd::Exited));
                }
                ShellEvent::Ended { exit, may_miss: true } => {
                    let code =
                        exit.map_or_else(String::new, |code| format!("; the command ended with {code}"));
                    let why = format!("output may be missing since then{code}");
                    let machine = self.shared.machine.clone();
                    state.end.get_or_insert(CommandEnd::Failed(WinrmFailure::Lost { machine, why }));
                }
                ShellEvent::Failed(error) => {
                    let machine = self.shared.machine.clone();
                    let failure = match error {
                        ShellError::Refused { what, why } => {
                            WinrmFailure::Answer { machine, what, source: why }
                        }
                        ShellError::Lost { what } => {
                            WinrmFailure::Lost { machine, why: format!("when it was asked for {what}") }
                        }
                    };
                    state.end.get_or_insert(CommandEnd::Failed(failure));
                }
                ShellEvent::Gone => {
                    state.end.get_or_insert(CommandEnd::Unknown);
                }
            }
        }
        drop(state);
        // Also where nothing happened: room for input may have come.
        self.shared.heard.notify_waiters();
    }
}

/// Posts on a connection and waits for the answer.
async fn carry(
    opener: Arc<Opener>,
    mut session: Box<Session>,
    post: Post,
) -> (Box<Session>, u64, Result<Bytes, PostError>) {
    let service = opener.service();
    let limit = post.limit.unwrap_or(opener.request.way.limits.login);
    let answer = session.post(&post.body, post.what, opener.password(), &opener.whom(&service), limit).await;
    (session, post.number, answer)
}

async fn sleep_until(at: Option<Instant>) {
    match at {
        Some(at) => tokio::time::sleep_until(at.into()).await,
        None => pending().await,
    }
}
