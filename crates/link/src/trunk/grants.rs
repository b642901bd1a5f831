//! What a machine may come back for: granted one by one, to be used once or often, and revoked by dropping.

use std::collections::HashMap;
use std::sync::Arc;

use lantern_ssh::PeerChannel;
use tokio::sync::mpsc;

use super::Channel;
use super::state::Shared;

/// Channels of one grant that wait to be taken; more are refused.
const WAITING: usize = 16;

/// A kind of channel that a machine may open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Grant {
    /// To the agent.
    Agent,
    /// To the display. The cookie is checked by whoever takes the channel: it comes as its first bytes.
    Display,
    /// From a port that the machine listens on for us.
    Port {
        /// The address, as we asked for it.
        address: String,
        /// The port.
        port: u16,
    },
}

/// How often.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Uses {
    /// The first channel takes the grant with it.
    Once,
    /// Until it is revoked.
    Many,
}

impl Grant {
    fn covers(&self, wanted: &PeerChannel) -> bool {
        match (self, wanted) {
            (Self::Agent, PeerChannel::Agent) | (Self::Display, PeerChannel::Display { .. }) => true,
            (Self::Port { address, port }, PeerChannel::Forwarded(from)) => {
                *address == from.address && *port == from.port
            }
            _ => false,
        }
    }
}

type Taker = mpsc::Sender<(PeerChannel, Channel)>;

/// The grants of a connection.
#[derive(Default)]
pub(super) struct Grants {
    standing: HashMap<u64, (Grant, Uses, Taker)>,
    next: u64,
}

impl Grants {
    /// Who takes a channel of this kind, when a grant covers it. One that can be used once is gone then.
    pub(super) fn claim(&mut self, wanted: &PeerChannel) -> Option<Taker> {
        let found =
            self.standing.iter().find(|(_, (grant, _, taker))| grant.covers(wanted) && !taker.is_closed());
        let (number, uses) = found.map(|(number, (_, uses, _))| (*number, *uses))?;
        match uses {
            Uses::Once => self.standing.remove(&number).map(|(_, _, taker)| taker),
            Uses::Many => self.standing.get(&number).map(|(_, _, taker)| taker.clone()),
        }
    }

    pub(super) fn clear(&mut self) {
        self.standing.clear();
    }
}

/// A grant that stands. Dropped, it is revoked; channels that were opened under it live on.
pub struct Granted {
    shared: Arc<Shared>,
    number: u64,
    channels: mpsc::Receiver<(PeerChannel, Channel)>,
}

impl Granted {
    pub(super) fn new(shared: Arc<Shared>, grant: Grant, uses: Uses) -> Self {
        let (taker, channels) = mpsc::channel(WAITING);
        let number = {
            let grants = &mut shared.lock().grants;
            grants.next += 1;
            let number = grants.next;
            grants.standing.insert(number, (grant, uses, taker));
            number
        };
        Self { shared, number, channels }
    }

    /// The next channel that the machine opens under it; none once it is used up or the connection has ended.
    pub async fn next(&mut self) -> Option<(PeerChannel, Channel)> {
        self.channels.recv().await
    }
}

impl Drop for Granted {
    fn drop(&mut self) {
        let revoked = self.shared.lock().grants.standing.remove(&self.number);
        // Channels that nobody took are given up, outside the lock that this needs.
        drop(revoked);
    }
}
