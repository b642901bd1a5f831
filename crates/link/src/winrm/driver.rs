//! The task that carries a command or a session out: it posts what the state machine has to say, and opens what connections that takes.

use std::future::pending;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use lantern_winrm::{Lane, Post, Wanted};
use tokio::time::{Instant, sleep, timeout};
use tracing::debug;

use super::answers::PostError;
use super::failure::WinrmFailure;
use super::opener::Opener;
use super::session::Session;
use super::shared::{Carried, Shared};

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

/// What owns the connections of a command or a session.
pub(super) struct Driver<C> {
    shared: Arc<Shared<C>>,
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

impl<C: Carried> Driver<C> {
    pub(super) fn new(shared: Arc<Shared<C>>, opener: Arc<Opener>, done: Done) -> Self {
        Self { shared, opener, _done: done, lost_since: None }
    }

    /// Carries it out, on this connection and others, until its shell is gone.
    pub(super) async fn run(mut self, first: Session) {
        let (mut main, mut side) = (Line::Free(Box::new(first)), Line::None);
        let mut soon = None;
        loop {
            self.tell();
            if self.shared.lock().posts().is_gone() {
                break;
            }
            self.post(&mut main, Lane::Main);
            self.post(&mut side, Lane::Side);
            if matches!(main, Line::None) && self.shared.lock().posts().wants_main() {
                // It ended behind an answer, or while nothing was to be said.
                self.look_again(&mut main);
                continue;
            }
            let wanted = match (&main, &side) {
                // Whatever is on the main connection holds it.
                (Line::Busy(_), Line::None) => self.shared.lock().posts().wants_side(),
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
                match (state.has_ended(), state.is_dropped()) {
                    (true, _) => GOODBYE,
                    (false, true) => GIVEN_UP,
                    (false, false) => Duration::MAX,
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
                Err(_) => self.shared.lock().posts().handle_unreachable(),
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
        let Line::Free(session) = line else { return };
        if !session.is_open() {
            *line = Line::None;
            return;
        }
        let post = {
            let mut state = self.shared.lock();
            match state.posts().poll_post(lane) {
                Ok(Some(post)) => post,
                Ok(None) => return,
                Err(why) => {
                    let (machine, what) = (self.shared.machine.clone(), "what cannot be sent");
                    state.fail(WinrmFailure::Answer { machine, what, source: why });
                    state.posts().close();
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
                self.shared.lock().posts().handle_answer(number, &answer);
            }
            Came::Answer(number, Err(PostError::Failure(failure))) => {
                self.fail(number, failure);
                // The shell is to be ended all the same.
                if lane == Lane::Main && self.shared.lock().posts().has_shell() {
                    *main = self.open(Duration::ZERO);
                }
            }
            Came::Answer(number, Err(PostError::Lost { is_sent, is_amid, why })) => {
                debug!(why, is_sent, is_amid, "a connection was lost");
                match is_sent {
                    true => self.shared.lock().posts().handle_lost(number, is_amid),
                    false => self.shared.lock().posts().handle_unsent(number),
                }
                if lane == Lane::Main && !self.shared.lock().posts().is_gone() {
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
        let is_enough = state.has_ended() && pause > Duration::ZERO;
        match is_over || is_enough || !state.posts().has_shell() {
            true => state.posts().handle_unreachable(),
            false => *main = self.open(pause),
        }
    }

    /// A post came to nothing for a reason that another one would meet too. A password that was refused is not tried again to end the shell.
    fn fail(&self, number: u64, failure: WinrmFailure) {
        let is_refusal = failure.is_refusal();
        self.end_with(failure);
        self.shared.lock().posts().handle_lost(number, true);
        if is_refusal || !self.shared.lock().posts().has_shell() {
            self.shared.lock().posts().handle_unreachable();
        }
    }

    fn end_with(&self, failure: WinrmFailure) {
        let mut state = self.shared.lock();
        state.fail(failure);
        state.posts().close();
        drop(state);
        self.shared.heard.notify_waiters();
    }

    /// Hands on what has happened.
    fn tell(&self) {
        self.shared.lock().settle(&self.shared.machine);
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
