//! What the two sides have settled: by the first exchange for good, by each exchange until the next.

use lantern_keys::{PublicKey, SignatureAlgorithm};

use super::Guess;
use crate::algorithm::KexAlgorithm;
use crate::message::transport::{ExtInfo, KexInit};
use crate::negotiate::{self, Algorithms};
use crate::{Role, SshError};

#[derive(Debug, Default)]
pub(crate) struct Negotiated {
    /// The exchange hash of the first exchange (RFC 4253 §7.2).
    pub(super) session_id: Option<Vec<u8>>,
    pub(super) strict: bool,
    /// Whether the peer wants to hear EXT_INFO from us.
    pub(super) send_ext_info: bool,
    pub(super) peer_identification: String,
    pub(super) algorithms: Option<Algorithms>,
    pub(super) host_key: Option<PublicKey>,
    pub(super) next_guess: Option<Guess>,
    pub(super) server_host_keys: Vec<SignatureAlgorithm>,
    pub(super) ext_info: ExtInfo,
}

impl Negotiated {
    /// Takes from the first pair of offers what holds for the whole connection. `client` is the client's offer in the
    /// order of its own preference, whatever a guess made of it.
    pub(super) fn settle(
        &mut self,
        role: Role,
        client: &KexInit,
        server: &KexInit,
        preferred: &Algorithms,
    ) -> Result<(), SshError> {
        self.strict = negotiate::is_strict(client, server);
        let peer = if role == Role::Client { server } else { client };
        self.send_ext_info = negotiate::peer_takes_ext_info(role, peer);
        let names = server.host_keys.iter();
        self.server_host_keys = names.filter_map(|name| SignatureAlgorithm::from_name(name).ok()).collect();
        self.next_guess = next_guess(client, server, preferred);
        Ok(())
    }
}

/// What may be guessed next time. A guess counts as right only where it names what the server lists first, of both kinds
/// (RFC 4253 §7). Of the method, that must also be what was chosen, or guessing would change it. Of the host key it need only be
/// something that we take: which of the keys that are trusted is shown is a matter of taste, and the next offer may prefer it.
fn next_guess(client: &KexInit, server: &KexInit, preferred: &Algorithms) -> Option<Guess> {
    let host_key = server.host_keys.first().filter(|name| client.host_keys.contains(name))?;
    let host_key = SignatureAlgorithm::from_name(host_key).ok()?;
    let kex = preferred.kex;
    let first = server.kex.first()? == kex.name() && kex != KexAlgorithm::GroupExchange;
    first.then_some(Guess { kex, host_key })
}
