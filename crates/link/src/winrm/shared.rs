//! What the task of a command and its handles share.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use lantern_winrm::CommandShell;
use tokio::sync::Notify;

use super::failure::WinrmFailure;

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

/// A command as it is.
pub(super) struct State {
    pub(super) shell: CommandShell,
    /// What it wrote, on its two streams.
    pub(super) out: [VecDeque<Bytes>; 2],
    pub(super) started: bool,
    pub(super) end: Option<CommandEnd>,
    /// Whether nobody holds it any more.
    pub(super) is_dropped: bool,
}

/// What the task and the handles share.
pub(crate) struct Shared {
    pub(super) machine: String,
    state: Mutex<State>,
    /// For the task: there is something to be done.
    pub(super) wake: Notify,
    /// For whoever waits: something happened.
    pub(super) heard: Notify,
}

impl Shared {
    pub(super) fn new(machine: String, shell: CommandShell) -> Self {
        let state = State { shell, out: Default::default(), started: false, end: None, is_dropped: false };
        Self { machine, state: Mutex::new(state), wake: Notify::new(), heard: Notify::new() }
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until `ready` says something. Dropping the future loses nothing.
    pub(super) async fn until<T>(&self, mut ready: impl FnMut(&mut State) -> Option<T>) -> T {
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
