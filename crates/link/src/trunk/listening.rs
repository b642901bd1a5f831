//! Ports and sockets of the machine that it listens on for us.

use std::collections::HashMap;
use std::sync::Arc;
use std::task::Poll;

use lantern_ssh::{GlobalTicket, ListenAt};
use tokio::time::timeout;

use super::granted::{Granted, Opened};
use super::grants::{Grant, Taken, Uses};
use super::state::{Offered, Shared, State, Waits};
use super::{Handle, Trunk};
use crate::LinkError;

/// What became of a request that the machine listen.
pub(super) enum Asked {
    /// Nothing yet.
    Unanswered,
    /// It does not.
    Refused,
    /// It does. The grant stands from the moment at which the answer came: callers may follow in the same packet.
    Listens(ListenAt, u64, Taken<Offered>),
}

/// Requests under way, by their tickets.
pub(super) type Requests = HashMap<GlobalTicket, Asked>;

impl State {
    /// The machine's answer.
    pub(super) fn on_listening(&mut self, ticket: GlobalTicket, at: Option<ListenAt>) {
        let Some(place) = self.listening.get_mut(&ticket) else {
            // Nobody wants it any more.
            if let Some(at) = at {
                let _ = self.client.stop_listening(&at);
            }
            return;
        };
        *place = match at {
            Some(at) => {
                let (number, channels) = self.grants.add(Grant::Listening(at.clone()), Uses::Many);
                Asked::Listens(at, number, channels)
            }
            None => Asked::Refused,
        };
        self.wake_global();
    }
}

/// A request whose answer nobody may come to need.
struct Ticket<'a> {
    shared: &'a Shared,
    ticket: GlobalTicket,
}

impl Drop for Ticket<'_> {
    fn drop(&mut self) {
        let mut state = self.shared.lock();
        if let Some(Asked::Listens(at, number, _)) = state.listening.remove(&self.ticket) {
            state.grants.revoke(number);
            let _ = state.client.stop_listening(&at);
            self.shared.wake_driver();
        }
    }
}

impl Trunk {
    /// Has the machine listen for us, until what this returns is dropped.
    ///
    /// # Errors
    /// [`LinkError::ListenRefused`], [`LinkError::Unanswered`] or [`LinkError::Lost`].
    pub async fn listen(&self, at: &ListenAt) -> Result<Listening, LinkError> {
        let shared = self.shared();
        let ticket = {
            let mut state = shared.lock();
            let ticket = state.client.listen(at).map_err(|error| self.lost(error))?;
            state.listening.insert(ticket, Asked::Unanswered);
            shared.wake_driver();
            Ticket { shared, ticket }
        };
        let answered = std::future::poll_fn(|cx| {
            let mut state = shared.lock();
            match state.listening.get(&ticket.ticket) {
                Some(Asked::Unanswered) => {}
                _ => return Poll::Ready(Ok(state.listening.remove(&ticket.ticket))),
            }
            if let Some(error) = state.ended_by() {
                return Poll::Ready(Err(error));
            }
            state.wait(cx, Waits::Global);
            Poll::Pending
        });
        match timeout(self.answer_limit(), answered).await {
            Ok(Ok(Some(Asked::Listens(at, number, channels)))) => {
                let granted = Granted::standing(self.handle.shared.clone(), number, channels);
                Ok(Listening { handle: self.handle.clone(), at, granted })
            }
            Ok(Ok(_)) => Err(LinkError::ListenRefused { machine: self.machine().to_owned(), at: at.clone() }),
            Ok(Err(error)) => Err(self.lost(error)),
            Err(_) => Err(self.unanswered("whether it listens for us")),
        }
    }

    /// Whether the machine would listen for us on a port of its own; it stops at once.
    ///
    /// # Errors
    /// [`LinkError::Unanswered`] or [`LinkError::Lost`].
    pub async fn listens_for_us(&self) -> Result<bool, LinkError> {
        match self.listen(&ListenAt::Tcp { address: "127.0.0.1".into(), port: 0 }).await {
            Ok(_) => Ok(true),
            Err(LinkError::ListenRefused { .. }) => Ok(false),
            Err(error) => Err(error),
        }
    }
}

/// A place at which the machine listens for us. Dropped, it stops.
pub struct Listening {
    handle: Arc<Handle>,
    at: ListenAt,
    granted: Granted,
}

impl Listening {
    /// Where, with the port that the machine chose.
    pub fn at(&self) -> &ListenAt {
        &self.at
    }

    /// The next caller; none once the connection has ended.
    pub async fn next(&mut self) -> Option<Opened> {
        self.granted.next().await
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        let shared = &self.handle.shared;
        // On a connection that has ended, nothing listens.
        let _ = shared.lock().client.stop_listening(&self.at);
        shared.wake_driver();
    }
}

impl std::fmt::Debug for Listening {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Listening").field("at", &self.at).finish()
    }
}
