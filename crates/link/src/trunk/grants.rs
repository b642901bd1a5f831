//! What a machine may come back for: granted one by one, to be used once or often, and revoked by dropping.

use std::collections::HashMap;

use lantern_ssh::{Cookie, DisplaySetup, ListenAt, PeerChannel};
use tokio::sync::mpsc;

/// Channels of one grant that wait to be taken; more are refused.
pub(super) const WAITING: usize = 16;
/// The same for callers of a port: as many as a system lets wait at a listening socket.
const WAITING_CALLERS: usize = 1024;

/// A kind of channel that a machine may open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Grant {
    /// To the agent.
    Agent,
    /// To the display, for whoever presents this cookie as the first thing.
    Display(Cookie),
    /// From where the machine listens for us, as it was asked to.
    Listening(ListenAt),
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
    /// Whether the port is ours, at whatever address: servers exist that name where a caller came in, and not what they were asked for.
    fn covers_port(&self, wanted: &PeerChannel) -> bool {
        matches!((self, wanted), (Self::Listening(ListenAt::Tcp { port, .. }), PeerChannel::Forwarded(from)) if *port == from.port)
    }

    fn covers(&self, wanted: &PeerChannel) -> bool {
        match (self, wanted) {
            (Self::Agent, PeerChannel::Agent) => true,
            (Self::Listening(ListenAt::Tcp { address, port }), PeerChannel::Forwarded(from)) => {
                *address == from.address && *port == from.port
            }
            (Self::Listening(ListenAt::Unix(path)), PeerChannel::ForwardedUnix(from)) => path == from,
            _ => false,
        }
    }
}

/// Who takes the channels of a grant: each with what the machine said of it.
pub(super) type Taker<T> = mpsc::Sender<(PeerChannel, T)>;
/// Where they come to.
pub(super) type Taken<T> = mpsc::Receiver<(PeerChannel, T)>;

/// The grants of a connection.
pub(super) struct Grants<T> {
    standing: HashMap<u64, (Grant, Uses, Taker<T>)>,
    next: u64,
}

impl<T> Default for Grants<T> {
    fn default() -> Self {
        Self { standing: HashMap::new(), next: 0 }
    }
}

impl<T> Grants<T> {
    /// Has a grant stand; its number, and where its channels come to.
    pub(super) fn add(&mut self, grant: Grant, uses: Uses) -> (u64, Taken<T>) {
        let waiting = if matches!(grant, Grant::Listening(_)) { WAITING_CALLERS } else { WAITING };
        let (taker, channels) = mpsc::channel(waiting);
        self.next += 1;
        self.standing.insert(self.next, (grant, uses, taker));
        (self.next, channels)
    }

    /// Whether any display is granted.
    pub(super) fn has_display(&self) -> bool {
        self.standing
            .values()
            .any(|(grant, _, taker)| matches!(grant, Grant::Display(_)) && !taker.is_closed())
    }

    /// Who takes a channel of this kind, when a grant covers it. One that can be used once is gone then.
    pub(super) fn claim(&mut self, wanted: &PeerChannel) -> Option<Taker<T>> {
        let by_port = |grant: &Grant| grant.covers_port(wanted);
        self.claim_by(|grant| grant.covers(wanted)).or_else(|| match self.count(by_port) {
            1 => self.claim_by(by_port),
            _ => None,
        })
    }

    /// Who takes a channel to the display that begins like this.
    pub(super) fn claim_display(&mut self, setup: &DisplaySetup) -> Option<Taker<T>> {
        self.claim_by(|grant| matches!(grant, Grant::Display(cookie) if setup.presents(cookie)))
    }

    fn count(&self, covers: impl Fn(&Grant) -> bool) -> usize {
        self.standing.values().filter(|(grant, _, _)| covers(grant)).count()
    }

    fn claim_by(&mut self, covers: impl Fn(&Grant) -> bool) -> Option<Taker<T>> {
        let found = self.standing.iter().find(|(_, (grant, _, taker))| covers(grant) && !taker.is_closed());
        let (number, uses) = found.map(|(number, (_, uses, _))| (*number, *uses))?;
        match uses {
            Uses::Once => self.standing.remove(&number).map(|(_, _, taker)| taker),
            Uses::Many => self.standing.get(&number).map(|(_, _, taker)| taker.clone()),
        }
    }

    /// Takes a grant back.
    pub(super) fn revoke(&mut self, number: u64) {
        self.standing.remove(&number);
    }

    pub(super) fn clear(&mut self) {
        self.standing.clear();
    }
}
