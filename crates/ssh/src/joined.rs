//! Joining a connection that another process of the same user has logged in: the connection protocol (RFC 4254) in packets (RFC 4253 §6) that nothing
//! protects, over a socket that only this user's processes reach.
//!
//! No negotiation ever leads here: it takes a call of [`Client::joined`] or [`Server::joined`], and a machine made by those takes part in no key exchange.
//! What keeps others out is the socket: a file in a folder of mode 0700, and the peer's user, which the system tells.

use std::time::{Duration, Instant};

use lantern_keys::RandomSource;

use crate::transport::{Joining, RekeyPolicy, Transport};
use crate::{Client, ClientConfig, Offer, Server, ServerConfig, SshError};

/// Keys that there are none of are never renewed.
const NEVER: RekeyPolicy = RekeyPolicy { bytes: u64::MAX, packets: u64::MAX, time: Duration::MAX };

impl Client {
    /// The side that uses what is logged in.
    ///
    /// # Errors
    /// None in practice: it is what making a machine can say.
    pub fn joined(
        user: &str,
        to: Joining,
        random: Box<dyn RandomSource>,
        now: Instant,
    ) -> Result<Self, SshError> {
        let mut config = ClientConfig::new(user.to_owned(), Offer::new(true), random);
        config.rekey = NEVER;
        let mut client = Self::with(config, |config, _| Ok(Transport::joined(config, to)), now)?;
        client.auth.skip();
        Ok(client)
    }

    /// Whether another process has logged in: what is counted, and timed, is the way to that process.
    pub fn is_joined(&self) -> bool {
        self.base.transport.is_joined()
    }
}

impl Server {
    /// The side that has logged in, and passes on.
    ///
    /// # Errors
    /// As [`Client::joined`].
    pub fn joined(random: Box<dyn RandomSource>, now: Instant) -> Result<Self, SshError> {
        let mut config = ServerConfig::new(Vec::new(), Offer::new(true), random);
        config.rekey = NEVER;
        let join = |config, _| Ok(Transport::joined(config, Joining::default()));
        let mut server = Self::with(config, join, now)?;
        server.skip_login();
        Ok(server)
    }
}
