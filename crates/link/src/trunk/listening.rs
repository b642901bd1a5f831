//! Ports and sockets of the machine that it listens on for us.

use std::sync::Arc;
use std::task::Poll;

use lantern_ssh::{GlobalTicket, ListenAt};
use tokio::time::timeout;

use super::granted::{Granted, Opened};
use super::listen_requests::Asked;
use super::state::{Shared, Waits};
use super::{Handle, Trunk};
use crate::LinkError;

/// A request whose answer nobody may come to need.
struct Ticket<'a> {
    shared: &'a Shared,
    ticket: GlobalTicket,
}

impl Drop for Ticket<'_> {
    fn drop(&mut self) {
        let mut state = self.shared.lock();
        if let Some(Asked::Listens(at, number, _)) = state.listening.take(self.ticket) {
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
            state.listening.begin(ticket);
            shared.wake_driver();
            Ticket { shared, ticket }
        };
        let answered = std::future::poll_fn(|cx| {
            let mut state = shared.lock();
            if state.listening.is_answered(ticket.ticket) {
                return Poll::Ready(Ok(state.listening.take(ticket.ticket)));
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
