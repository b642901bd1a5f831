//! What stands behind the lock of a conversation about files: the protocol machine, and who waits for which answer.

use std::collections::HashMap;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use lantern_ssh::sftp::{Answer, Flight, Refusal, ServerLimits, SftpClient, SftpRequest, StatusCode, Ticket};
use tokio::sync::{Notify, mpsc, oneshot};

use super::FilesError;

/// How many times the usual wait what brings bytes to disk may take: a disk that is busy with a gigabyte.
const SLOW_FACTOR: u32 = 10;

pub(super) type Outcome = Result<Answer, Refusal>;

/// Who gets an answer.
pub(super) enum Waiter {
    /// Whoever asked this alone.
    One(oneshot::Sender<Outcome>),
    /// Whoever asked several things; the number says which.
    Several(mpsc::UnboundedSender<(u64, Outcome)>, u64),
    /// The conversation itself: what the server takes.
    Limits,
}

pub(super) struct State {
    pub(super) client: SftpClient,
    pub(super) waiters: HashMap<Ticket, Waiter>,
    pub(super) limits: ServerLimits,
    pub(super) flight: Flight,
    /// Questions that may take long.
    pub(super) slow: u32,
    /// Since when nothing was heard, while something is waited for.
    pub(super) heard: Instant,
    /// Nobody holds the conversation any more.
    pub(super) is_abandoned: bool,
    pub(super) ended: Option<FilesError>,
}

/// A conversation, between those who ask and the task that moves its bytes.
pub(super) struct Shared {
    state: Mutex<State>,
    pub(super) wake: Notify,
    /// Whoever waits for the beginning, or for the end.
    pub(super) changed: Notify,
    pub(super) machine: String,
    pub(super) patience: Duration,
}

impl std::fmt::Debug for Shared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Shared").field(&self.machine).finish()
    }
}

/// Whoever holds it keeps the conversation going.
#[derive(Debug)]
pub(super) struct Owner(pub(super) Arc<Shared>);

impl Drop for Owner {
    fn drop(&mut self) {
        self.0.lock().is_abandoned = true;
        self.0.wake.notify_one();
    }
}

impl Shared {
    pub(super) fn new(machine: &str, patience: Duration) -> Self {
        let state = State {
            client: SftpClient::new(),
            waiters: HashMap::new(),
            limits: ServerLimits::ASSUMED,
            flight: Flight::default(),
            slow: 0,
            heard: Instant::now(),
            is_abandoned: false,
            ended: None,
        };
        Self {
            state: Mutex::new(state),
            wake: Notify::new(),
            changed: Notify::new(),
            machine: machine.to_owned(),
            patience,
        }
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn unanswered(&self, what: &'static str) -> FilesError {
        FilesError::Unanswered { machine: self.machine.clone(), what, seconds: self.patience.as_secs() }
    }

    /// Waits until the server has said what it is.
    pub(super) async fn begun(&self) -> Result<(), FilesError> {
        loop {
            let changed = self.changed.notified();
            {
                let state = self.lock();
                if let Some(ended) = &state.ended {
                    return Err(ended.clone());
                }
                if state.client.extensions().is_some() {
                    return Ok(());
                }
            }
            changed.await;
        }
    }

    pub(super) fn ask_limits(&self) {
        let mut state = self.lock();
        let ticket = state.client.ask(&SftpRequest::Limits);
        state.waiters.insert(ticket, Waiter::Limits);
        drop(state);
        self.wake.notify_one();
    }

    /// Nothing more can be asked: whoever waits hears why.
    pub(super) fn end(&self, error: FilesError) {
        let mut state = self.lock();
        state.ended.get_or_insert(error);
        state.waiters.clear();
        drop(state);
        self.changed.notify_waiters();
    }

    /// Waits until nothing more can be asked, and says why.
    pub(super) async fn over(&self) -> FilesError {
        loop {
            let changed = self.changed.notified();
            if self.lock().ended.is_some() {
                return self.ended();
            }
            changed.await;
        }
    }

    /// What ended it.
    pub(super) fn ended(&self) -> FilesError {
        let said = String::new();
        self.lock().ended.clone().unwrap_or(FilesError::Ended { machine: self.machine.clone(), said })
    }
}

impl State {
    /// Asks; the answer goes to this one.
    pub(super) fn ask(&mut self, request: &SftpRequest, waiter: Waiter) -> Ticket {
        if self.client.unanswered() == 0 {
            self.heard = Instant::now();
        }
        let ticket = self.client.ask(request);
        self.slow += u32::from(is_slow(request));
        self.waiters.insert(ticket, waiter);
        ticket
    }

    /// Hands answers to whoever waits for them.
    pub(super) fn deliver(&mut self) {
        self.heard = Instant::now();
        while let Some((ticket, outcome)) = self.client.poll_answer() {
            match self.waiters.remove(&ticket) {
                // Gone in between: its own end has given the answer up already.
                Some(Waiter::One(waiter)) => drop(waiter.send(outcome)),
                Some(Waiter::Several(waiter, number)) => drop(waiter.send((number, outcome))),
                Some(Waiter::Limits) => {
                    if let Ok(Answer::Limits(limits)) = outcome {
                        self.limits = within_reason(limits);
                    }
                }
                None => {}
            }
        }
        if self.client.unanswered() == 0 {
            self.slow = 0;
        }
    }

    /// When the server has been silent for too long; none where nothing is waited for.
    pub(super) fn deadline(&self, patience: Duration) -> Option<Instant> {
        let waits = self.client.extensions().is_none() || self.client.unanswered() > 0;
        let patience = if self.slow > 0 { patience.saturating_mul(SLOW_FACTOR) } else { patience };
        waits.then(|| self.heard.checked_add(patience)).flatten()
    }
}

fn is_slow(request: &SftpRequest) -> bool {
    matches!(
        request,
        SftpRequest::Sync(_)
            | SftpRequest::CopyData { .. }
            | SftpRequest::Close(_)
            | SftpRequest::Digest { .. }
    )
}

/// What the server says it takes, where that is something that can be worked with.
fn within_reason(said: ServerLimits) -> ServerLimits {
    const HEAD: u64 = 1024;
    let most = lantern_ssh::sftp::MAX_SFTP_FRAME as u64 - HEAD;
    let or = |said: u64, fallback: u64| if said == 0 { fallback } else { said.clamp(1024, most) };
    let assumed = ServerLimits::ASSUMED;
    ServerLimits { read: or(said.read, assumed.read), write: or(said.write, assumed.write), ..said }
}

/// Asks one thing.
pub(super) fn put(shared: &Arc<Shared>, request: &SftpRequest) -> Asked {
    let (sender, receiver) = oneshot::channel();
    let mut state = shared.lock();
    let ticket = match &state.ended {
        Some(_) => None,
        None => Some(state.ask(request, Waiter::One(sender))),
    };
    drop(state);
    shared.wake.notify_one();
    Asked { shared: shared.clone(), ticket, receiver }
}

/// Closes what nobody needs any more; how that goes is nobody's concern.
pub(super) fn close_unheard(shared: &Shared, request: &SftpRequest) {
    let mut state = shared.lock();
    if state.ended.is_none() {
        let ticket = state.client.ask(request);
        state.client.give_up(ticket);
    }
    drop(state);
    shared.wake.notify_one();
}

/// The answer to one question. Dropped before it came, it is given up.
pub(super) struct Asked {
    shared: Arc<Shared>,
    ticket: Option<Ticket>,
    receiver: oneshot::Receiver<Outcome>,
}

impl Future for Asked {
    type Output = Result<Outcome, FilesError>;

    fn poll(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Self::Output> {
        if self.ticket.is_none() {
            return Poll::Ready(Err(self.shared.ended()));
        }
        let Poll::Ready(outcome) = Pin::new(&mut self.receiver).poll(cx) else { return Poll::Pending };
        self.ticket = None;
        Poll::Ready(outcome.map_err(|_| self.shared.ended()))
    }
}

impl Drop for Asked {
    fn drop(&mut self) {
        let Some(ticket) = self.ticket else { return };
        let mut state = self.shared.lock();
        state.waiters.remove(&ticket);
        // It may have come and not been looked at.
        match self.receiver.try_recv() {
            Ok(Ok(Answer::Opened(handle))) => {
                let ticket = state.client.ask(&SftpRequest::close(handle));
                state.client.give_up(ticket);
            }
            Ok(_) => {}
            Err(_) => state.client.give_up(ticket),
        }
        drop(state);
        self.shared.wake.notify_one();
    }
}

/// Whether this says that a file or a listing has ended.
pub(super) fn is_end(refusal: &Refusal) -> bool {
    refusal.code == StatusCode::EndOfFile
}
