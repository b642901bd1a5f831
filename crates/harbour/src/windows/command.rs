//! A command that runs on a simulated machine: its streams and its end.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use lantern_winrm::{Output, Received};
use tokio::sync::Notify;
use tokio::time::timeout;

/// Output that nobody has asked for yet, in bytes: a pipe's worth; then its writer waits.
const PIPE: usize = 512 * 1024;
/// The code of a program that was interrupted (STATUS_CONTROL_C_EXIT).
pub(super) const INTERRUPTED: u32 = 0xc000_013a;

#[derive(Default)]
struct State {
    out: VecDeque<(Output, Bytes)>,
    waiting: usize,
    input: VecDeque<Bytes>,
    input_ended: bool,
    interrupted: bool,
    exit: Option<u32>,
}

/// A command. Clones are the same one.
#[derive(Clone)]
pub(super) struct Command {
    state: Arc<Mutex<State>>,
    changed: Arc<Notify>,
    /// Variables.
    pub(super) environment: Arc<BTreeMap<String, String>>,
}

impl Command {
    pub(super) fn new(environment: BTreeMap<String, String>) -> Self {
        Self { state: Arc::default(), changed: Arc::default(), environment: Arc::new(environment) }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn until<T>(&self, mut ready: impl FnMut(&mut State) -> Option<T>) -> T {
        loop {
            let mut changed = std::pin::pin!(self.changed.notified());
            changed.as_mut().enable();
            if let Some(found) = ready(&mut self.lock()) {
                return found;
            }
            changed.await;
        }
    }

    /// Writes; whether it goes on: not where it was interrupted or has ended.
    pub(super) async fn write(&self, output: Output, data: impl Into<Bytes>) -> bool {
        let mut data = Some(data.into());
        let goes_on = self
            .until(|state| {
                if state.interrupted || state.exit.is_some() {
                    return Some(false);
                }
                if state.waiting >= PIPE {
                    return None;
                }
                if let Some(data) = data.take() {
                    state.waiting += data.len();
                    state.out.push_back((output, data));
                }
                Some(true)
            })
            .await;
        self.changed.notify_waiters();
        goes_on
    }

    /// A piece of its input; none at its end, or where it was interrupted.
    pub(super) async fn read(&self) -> Option<Bytes> {
        let piece = self
            .until(|state| match state.input.pop_front() {
                _ if state.interrupted => Some(None),
                Some(piece) => Some(Some(piece)),
                None if state.input_ended => Some(None),
                None => None,
            })
            .await;
        self.changed.notify_waiters();
        piece
    }

    /// Waits; whether it goes on.
    pub(super) async fn sleep(&self, time: Duration) -> bool {
        timeout(time, self.until(|state| state.interrupted.then_some(()))).await.is_err()
    }

    /// Waits until it is interrupted.
    pub(super) async fn interrupted(&self) {
        self.until(|state| state.interrupted.then_some(())).await;
    }

    /// What interrupted it has been heard: it may say its last word.
    pub(super) fn calm(&self) {
        self.lock().interrupted = false;
    }

    /// It has ended.
    pub(super) fn end(&self, code: u32) {
        let mut state = self.lock();
        let code = if state.interrupted { INTERRUPTED } else { code };
        state.exit.get_or_insert(code);
        drop(state);
        self.changed.notify_waiters();
    }

    /// Takes input, when there is room for it; whether anybody reads it.
    pub(super) async fn send(&self, pieces: Vec<Bytes>, end: bool) -> bool {
        for piece in pieces {
            let mut piece = Some(piece);
            let takes = self
                .until(|state| match state.exit {
                    Some(_) => Some(false),
                    None if state.input.iter().map(Bytes::len).sum::<usize>() >= PIPE => None,
                    None => {
                        state.input.extend(piece.take());
                        Some(true)
                    }
                })
                .await;
            self.changed.notify_waiters();
            if !takes {
                return false;
            }
        }
        let mut state = self.lock();
        state.input_ended |= end;
        let takes = state.exit.is_none();
        drop(state);
        self.changed.notify_waiters();
        takes
    }

    /// Interrupts it.
    pub(super) fn interrupt(&self) {
        self.lock().interrupted = true;
        self.changed.notify_waiters();
    }

    /// What it has written, at most so many bytes, or its end; none within the time.
    pub(super) async fn receive(&self, most: usize, wait: Duration) -> Option<Received> {
        let waiting = self.until(|state| {
            if state.out.is_empty() && state.exit.is_none() {
                return None;
            }
            let mut received = Received::default();
            let mut room = most;
            while let Some((output, piece)) = state.out.front_mut().filter(|_| room > 0) {
                let (output, part) = (*output, piece.split_to(room.min(piece.len())));
                if piece.is_empty() {
                    state.out.pop_front();
                }
                room -= part.len();
                state.waiting -= part.len();
                received.pieces.push((output, part));
            }
            if state.out.is_empty() && state.exit.is_some() {
                (received.is_done, received.exit) = (true, state.exit);
            }
            Some(received)
        });
        let received = timeout(wait, waiting).await.ok();
        self.changed.notify_waiters();
        received
    }
}
