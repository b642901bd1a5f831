//! Answers that our server role owes to global requests: they leave in the order of the requests (RFC 4254 §4), whichever is decided first.

use std::collections::VecDeque;

use lantern_keys::wire::Writer;

use crate::limits::MAX_GLOBAL_REQUESTS;
use crate::message::number;
use crate::transport::Transport;
use crate::{ListenAt, SshError};

/// A request of the client that awaits a decision.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ListenTicket(u64);

#[derive(Debug)]
enum Owed {
    /// A whole message.
    Ready(Vec<u8>),
    /// Whether we listen there is not decided.
    Undecided(u64, ListenAt),
}

#[derive(Debug, Default)]
pub(crate) struct OwedAnswers {
    queue: VecDeque<Owed>,
    tickets: u64,
}

impl OwedAnswers {
    /// Answers now, or when those before it are answered.
    pub(crate) fn answer(&mut self, message: Vec<u8>, transport: &mut Transport) -> Result<(), SshError> {
        self.queue.push_back(Owed::Ready(message));
        self.flush(transport)
    }

    /// Leaves a place for an answer that the caller decides on.
    pub(crate) fn leave_open(&mut self, at: ListenAt) -> Result<ListenTicket, SshError> {
        if self.queue.len() >= MAX_GLOBAL_REQUESTS {
            let limit = MAX_GLOBAL_REQUESTS as u64;
            return Err(SshError::LimitExceeded { what: "global requests at once", limit });
        }
        let ticket = self.tickets;
        self.tickets += 1;
        self.queue.push_back(Owed::Undecided(ticket, at));
        Ok(ListenTicket(ticket))
    }

    /// The caller's decision: the port that is listened on (0 for a socket), or a refusal.
    pub(crate) fn decide(
        &mut self,
        ticket: ListenTicket,
        port: Option<u16>,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let place = self
            .queue
            .iter_mut()
            .find(|owed| matches!(owed, Owed::Undecided(number, _) if *number == ticket.0));
        let Some(place) = place else { return Err(SshError::Misuse("no such request awaits an answer")) };
        let is_open = matches!(place, Owed::Undecided(_, at) if at.is_open());
        let mut message = Vec::new();
        match port {
            Some(port) => {
                message.put_byte(number::REQUEST_SUCCESS);
                // RFC 4254 §7.1: the port comes back only when we chose it.
                if is_open {
                    message.put_uint32(port.into());
                }
            }
            None => message.put_byte(number::REQUEST_FAILURE),
        }
        *place = Owed::Ready(message);
        self.flush(transport)
    }

    fn flush(&mut self, transport: &mut Transport) -> Result<(), SshError> {
        while let Some(Owed::Ready(message)) = self.queue.front() {
            transport.send(|out| out.put(message))?;
            self.queue.pop_front();
        }
        Ok(())
    }

    /// What waits here, in bytes, about.
    pub(crate) fn held_bytes(&self) -> usize {
        self.queue.len() * 512
    }
}
