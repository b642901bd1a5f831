//! What a task that carries something out on a machine shares with whoever holds it.

use std::sync::{Mutex, MutexGuard, PoisonError};

use lantern_winrm::{Posts, ShellError};
use tokio::sync::Notify;

use super::failure::WinrmFailure;

/// Something that is carried out on a machine by posts: a command, or a session.
pub(super) trait Carried: Send + 'static {
    /// The state machine behind it.
    fn posts(&mut self) -> &mut dyn Posts;
    /// Takes over what has happened.
    fn settle(&mut self, machine: &str);
    /// It has come to this, unless it has ended already.
    fn fail(&mut self, failure: WinrmFailure);
    /// Whether how it ended is known.
    fn has_ended(&self) -> bool;
    /// Whether nobody holds it any more.
    fn is_dropped(&self) -> bool;
    /// Notes that nobody holds it any more.
    fn drop_it(&mut self);
}

/// What the task and the handles share.
pub(crate) struct Shared<C> {
    pub(super) machine: String,
    state: Mutex<C>,
    /// For the task: there is something to be done.
    pub(super) wake: Notify,
    /// For whoever waits: something happened.
    pub(super) heard: Notify,
}

impl<C: Carried> Shared<C> {
    pub(super) fn new(machine: String, carried: C) -> Self {
        Self { machine, state: Mutex::new(carried), wake: Notify::new(), heard: Notify::new() }
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, C> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes it, and has the task look.
    pub(super) fn change<T>(&self, change: impl FnOnce(&mut C) -> T) -> T {
        let changed = change(&mut self.lock());
        self.wake.notify_one();
        changed
    }

    /// Waits until `ready` says something. Dropping the future loses nothing.
    pub(super) async fn until<T>(&self, mut ready: impl FnMut(&mut C) -> Option<T>) -> T {
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

/// The last handle: when it goes, what it holds is given up.
pub(super) struct Handle<C: Carried>(pub(super) std::sync::Arc<Shared<C>>);

impl<C: Carried> Drop for Handle<C> {
    fn drop(&mut self) {
        self.0.change(|state| {
            state.drop_it();
            state.posts().close();
        });
    }
}

/// Why a shell cannot go on, for people.
pub(super) fn failure(machine: &str, error: ShellError) -> WinrmFailure {
    let machine = machine.to_owned();
    match error {
        ShellError::Refused { what, why } => WinrmFailure::Answer { machine, what, source: why },
        ShellError::Session { why } => WinrmFailure::Session { machine, source: why },
        ShellError::Lost { what } => {
            WinrmFailure::Lost { machine, why: format!("when it was asked for {what}") }
        }
    }
}
