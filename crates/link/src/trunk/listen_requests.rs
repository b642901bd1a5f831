//! Requests that the machine listen for us, until whoever made them has the answer.

use std::collections::HashMap;

use lantern_ssh::{GlobalTicket, ListenAt};

use super::grants::{Grant, Grants, Taken, Uses};

/// What became of a request.
pub(super) enum Asked<T> {
    /// Nothing yet.
    Unanswered,
    /// It does not.
    Refused,
    /// It does. The grant stands from the moment at which the answer came: callers may follow in the same packet.
    Listens(ListenAt, u64, Taken<T>),
}

/// Requests under way, by their tickets.
pub(super) struct ListenRequests<T>(HashMap<GlobalTicket, Asked<T>>);

impl<T> Default for ListenRequests<T> {
    fn default() -> Self {
        Self(HashMap::new())
    }
}

impl<T> ListenRequests<T> {
    /// One was made.
    pub(super) fn begin(&mut self, ticket: GlobalTicket) {
        self.0.insert(ticket, Asked::Unanswered);
    }

    /// Whether its answer has come, or nobody waits for one.
    pub(super) fn is_answered(&self, ticket: GlobalTicket) -> bool {
        !matches!(self.0.get(&ticket), Some(Asked::Unanswered))
    }

    /// The answer, which nobody gets again.
    pub(super) fn take(&mut self, ticket: GlobalTicket) -> Option<Asked<T>> {
        self.0.remove(&ticket)
    }

    /// The machine's answer. Where nobody wants it any more, this is where the machine is to stop.
    pub(super) fn answer(
        &mut self,
        ticket: GlobalTicket,
        at: Option<ListenAt>,
        grants: &mut Grants<T>,
    ) -> Option<ListenAt> {
        let Some(place) = self.0.get_mut(&ticket) else { return at };
        *place = match at {
            Some(at) => {
                let (number, channels) = grants.add(Grant::Listening(at.clone()), Uses::Many);
                Asked::Listens(at, number, channels)
            }
            None => Asked::Refused,
        };
        None
    }
}
