//! A transport that is a part of a connection which somebody else has logged in: packets, and no keys.

use lantern_keys::PublicKey;

use super::negotiated::Negotiated;
use super::{Extensions, Transport, TransportConfig};
use crate::Algorithms;

/// What is known of the connection that is joined: as its own process knows it.
#[derive(Debug, Clone, Default)]
pub struct Joining {
    /// The server's identification line.
    pub identification: String,
    /// What the server proved to be.
    pub host_key: Option<PublicKey>,
    /// The algorithms in use.
    pub algorithms: Option<Algorithms>,
    /// Whether strict key exchange is in force.
    pub is_strict: bool,
}

impl Transport {
    /// One that takes part in no key exchange: whoever is at the other end has joined as well.
    pub(crate) fn joined(config: TransportConfig, to: Joining) -> Self {
        let mut transport = Self::unstarted(config);
        transport.expect_identification = None;
        transport.is_joined = true;
        transport.authenticated = true;
        transport.extensions = Extensions::Later;
        transport.lifetimes.exchanges = 1;
        transport.negotiated = Negotiated {
            session_id: Some(Vec::new()),
            strict: to.is_strict,
            peer_identification: to.identification,
            host_key: to.host_key,
            algorithms: to.algorithms,
            ..Negotiated::default()
        };
        transport
    }
}
