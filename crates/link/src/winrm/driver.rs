//! The task that carries a command out: it posts what the state machine has to say, and opens what connections that takes.

use std::future::pending;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use lantern_winrm::{Lane, Output, Post, ShellError, ShellEvent, Wanted};
use tokio::time::{Instant, sleep, timeout};
use tracing::debug;

use super::answers::PostError;
use super::failure::WinrmFailure;
use super::opener::Opener;
use super::session::Session;
use super::shared::{CommandEnd, Shared};

/// How long the end of input waits for the main connection before a second one is made for it: most commands have ended by then, and a login costs more.
const PATIENCE: Duration = Duration::from_millis(250);
/// How long the machine has to end a shell when all else is over.
const GOODBYE: Duration = Duration::from_secs(5);
/// The same where a program was given up, as by a second Ctrl-C: somebody waits, and the machine ends an idle shell by itself.
const GIVEN_UP: Duration = Duration::from_secs(1);
/// How long a machine that was lost is looked for.
const LOST_FOR: Duration = Duration::from_secs(60);
/// How long to wait between two looks, at first.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
/// And later.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);

/// Dropped at the end of a task: whoever closes the connection waits for that.
pub(super) type Done = tokio::sync::mpsc::Sender<()>;

/// What owns the connections of a command.
pub(super) struct Driver {
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
    pub(super) fn new(shared: Arc<Shared>, opener: Arc<Opener>, done: Done) -> Self {
        Self { shared, opener, _done: done, lost_since: None }
    }

    /// Carries it out, on this connection and others, until its shell is gone.
    pub(super) async fn run(mut self, first: Session) {
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
            let goodbye = {
                let state = self.shared.lock();
                match state.end {
                    Some(_) => GOODBYE,
                    None if state.is_dropped => GIVEN_UP,
                    None => Duration::MAX,
                }
            };
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

    /// A post came to nothing for a reason that another one would meet too. A password that was refused is not tried again to end the shell.
    fn fail(&self, number: u64, failure: WinrmFailure) {
        let is_refusal = failure.is_refusal();
        self.end_with(failure);
        self.shared.lock().shell.handle_lost(number, true);
        if is_refusal || !self.shared.lock().shell.has_shell() {
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
    let answer = session.post(&post.body, post.what, opener.proof(), &opener.whom(&service), limit).await;
    (session, post.number, answer)
}

async fn sleep_until(at: Option<Instant>) {
    match at {
        Some(at) => tokio::time::sleep_until(at).await,
        None => pending().await,
    }
}
