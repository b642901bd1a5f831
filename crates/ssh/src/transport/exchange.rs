//! Key exchange as the client runs it, and what both roles share.

use lantern_keys::wire::Reader;
use lantern_keys::wire::Writer;
use lantern_keys::{KeyError, PublicKey, Signature};
use std::time::Instant;
use tracing::debug;

use super::states::{
    Exchange, ExpectNewKeys, ExpectReply, ExpectShare, ExpectTrust, HostKeyTrusted, HostKeyVerified, Kex,
};
use super::{Extensions, Transport, TransportEvent};
use crate::algorithm::KexAlgorithm;
use crate::cipher::{PacketCipher, Use};
use crate::kex::schedule::{CLIENT_TO_SERVER, KeySchedule, SERVER_TO_CLIENT};
use crate::kex::{ClientShare, DhGroup, GroupRequest, HashInputs, Reply};
use crate::message::number;
use crate::message::transport::KexInit;
use crate::negotiate::{self, Algorithms};
use crate::{Role, SshError};

impl Transport {
    /// The peer's KEXINIT: an answer to ours, or its own wish for new keys.
    pub(super) fn handle_kexinit(
        &mut self,
        payload: &[u8],
        reader: Reader<'_>,
        now: Instant,
    ) -> Result<(), SshError> {
        let first = self.negotiated.session_id.is_none();
        if matches!(self.kex, Kex::Quiet) && !first {
            debug!("peer asks for new keys");
            self.start_kex(None, now)?;
        }
        let Kex::ExpectKexInit(expect) = std::mem::replace(&mut self.kex, Kex::Moving) else {
            return Err(SshError::Unexpected {
                expected: "the rest of a key exchange",
                met: number::KEXINIT,
            });
        };
        let theirs = KexInit::decode(reader).map_err(SshError::malformed("KEXINIT"))?;
        let (client, server) = match self.role {
            Role::Client => (&expect.ours, &theirs),
            Role::Server => (&theirs, &expect.ours),
        };
        let algorithms = negotiate::choose(client, server, self.role)?;
        let preferred = match self.role {
            Role::Client => negotiate::choose(&expect.preferred, server, self.role)?,
            Role::Server => algorithms,
        };
        if first {
            self.negotiated.settle(self.role, client, server, &preferred)?;
            if self.negotiated.strict && self.codec.receiver.direction.sequence != 1 {
                return Err(SshError::PeerBroke {
                    rule: "KEXINIT must be its first packet (strict key exchange)",
                });
            }
        }
        if algorithms != preferred {
            // The guess moved something ahead of what would be chosen without it: the server is not what it was last
            // time. Both sides have now sent offers that lead to the weaker choice, and there is no way back from that.
            return Err(SshError::GuessOutdated);
        }
        let guess_right = negotiate::guess_is_right(client, server);
        debug!(
            key_exchange = algorithms.kex.name(),
            host_key = algorithms.host_key.name(),
            to_the_server = algorithms.client_to_server.cipher.name(),
            from_the_server = algorithms.server_to_client.cipher.name(),
            strict = self.negotiated.strict,
            guessed = guess_right,
            "agreed on algorithms"
        );
        let (client_kexinit, server_kexinit) = match self.role {
            Role::Client => (expect.ours_payload, payload.to_vec()),
            Role::Server => (payload.to_vec(), expect.ours_payload),
        };
        let exchange = Exchange {
            algorithms,
            client_kexinit,
            server_kexinit,
            group_exchange: Vec::new(),
            ignore_next: theirs.first_kex_packet_follows && !guess_right,
        };
        self.kex = match (self.role, algorithms.kex) {
            (Role::Client, KexAlgorithm::GroupExchange) => {
                self.codec.send(|out| GroupRequest::OURS.message(out))?;
                Kex::ExpectGroup(Box::new(exchange))
            }
            (Role::Client, kex) => {
                let guess = expect.guess.filter(|share| guess_right && share.algorithm() == kex);
                let share = match guess {
                    Some(share) => share,
                    None => self.send_share(kex, None)?,
                };
                Kex::ExpectReply(Box::new(ExpectReply { exchange, share }))
            }
            (Role::Server, KexAlgorithm::GroupExchange) => Kex::ExpectGroupRequest(Box::new(exchange)),
            (Role::Server, _) => Kex::ExpectShare(Box::new(ExpectShare { exchange, group: None })),
        };
        Ok(())
    }

    fn send_share(&mut self, kex: KexAlgorithm, group: Option<DhGroup>) -> Result<ClientShare, SshError> {
        let share = ClientShare::new(kex, group, &mut *self.codec.random)?;
        self.codec.send(|out| share.message(out))?;
        Ok(share)
    }

    /// Messages 30 to 49: what they mean depends on the method.
    pub(super) fn handle_kex(
        &mut self,
        message: u8,
        reader: Reader<'_>,
    ) -> Result<Option<TransportEvent>, SshError> {
        if self.kex.take_ignored() {
            debug!(message, "ignored the peer's wrong guess");
            return Ok(None);
        }
        match std::mem::replace(&mut self.kex, Kex::Moving) {
            Kex::ExpectGroup(mut exchange) => {
                expect(message, number::KEX_DH_GEX_GROUP, "KEX_DH_GEX_GROUP (31)")?;
                let group = DhGroup::decode(reader)?;
                GroupRequest::OURS.encode(&mut exchange.group_exchange);
                group.encode(&mut exchange.group_exchange);
                let share = self.send_share(KexAlgorithm::GroupExchange, Some(group))?;
                self.kex = Kex::ExpectReply(Box::new(ExpectReply { exchange: *exchange, share }));
                Ok(None)
            }
            Kex::ExpectReply(state) => {
                let reply = match state.exchange.algorithms.kex {
                    KexAlgorithm::GroupExchange => number::KEX_DH_GEX_REPLY,
                    _ => number::KEX_REPLY,
                };
                expect(message, reply, "the server's key exchange reply")?;
                self.handle_reply(*state, reader)
            }
            Kex::ExpectGroupRequest(exchange) => {
                expect(message, number::KEX_DH_GEX_REQUEST, "KEX_DH_GEX_REQUEST (34)")?;
                self.respond_with_group(*exchange, reader).map(|()| None)
            }
            Kex::ExpectShare(state) => {
                let share = match state.exchange.algorithms.kex {
                    KexAlgorithm::GroupExchange => number::KEX_DH_GEX_INIT,
                    _ => number::KEX_INIT_SHARE,
                };
                expect(message, share, "the client's key exchange share")?;
                self.respond_to_share(*state, reader).map(|()| None)
            }
            _ => Err(SshError::Unexpected { expected: "no key exchange message", met: message }),
        }
    }

    /// The server's reply: agree, hash, check the signature, and only then look at whose key it is.
    fn handle_reply(
        &mut self,
        state: ExpectReply,
        reader: Reader<'_>,
    ) -> Result<Option<TransportEvent>, SshError> {
        let ExpectReply { exchange, share } = state;
        let kex = exchange.algorithms.kex;
        let reply = Reply::decode(reader, kex)?;
        let client_share = share.share().to_vec();
        let secret = share.agree(reply.share)?;
        let exchange_hash = HashInputs {
            client_identification: crate::IDENTIFICATION,
            server_identification: &self.negotiated.peer_identification,
            client_kexinit: &exchange.client_kexinit,
            server_kexinit: &exchange.server_kexinit,
            host_key: reply.host_key,
            group_exchange: &exchange.group_exchange,
            client_share: &client_share,
            server_share: reply.share,
        }
        .hash(kex, &secret);
        let verified = verify_host_key(&exchange.algorithms, &reply, &exchange_hash)?;
        let schedule = KeySchedule { algorithm: kex, secret, exchange_hash };
        debug!(host_key = %verified.key.fingerprint(), "host key signature verified");
        let known = match &self.negotiated.host_key {
            // In a re-exchange only the key that was trusted at first will do.
            Some(trusted) if *trusted == verified.key => true,
            Some(_) => return Err(SshError::HostKeyChanged { now: verified.key.fingerprint() }),
            None => self.known_host_keys.contains(&verified.key),
        };
        if known {
            self.finish_as_client(exchange.algorithms, schedule, HostKeyTrusted { key: verified.key })?;
            return Ok(None);
        }
        let key = verified.key.clone();
        let expect = ExpectTrust { algorithms: exchange.algorithms, schedule, verified };
        self.kex = Kex::ExpectTrust(Box::new(expect));
        Ok(Some(TransportEvent::HostKey(key)))
    }

    /// Someone accepted the host key: the connection goes on.
    pub(crate) fn trust_host_key(&mut self) -> Result<(), SshError> {
        match std::mem::replace(&mut self.kex, Kex::Moving) {
            Kex::ExpectTrust(state) => {
                let ExpectTrust { algorithms, schedule, verified: HostKeyVerified { key } } = *state;
                self.finish_as_client(algorithms, schedule, HostKeyTrusted { key })
            }
            other => {
                self.kex = other;
                Err(SshError::Misuse("no host key awaits a decision"))
            }
        }
    }

    fn finish_as_client(
        &mut self,
        algorithms: Algorithms,
        schedule: KeySchedule,
        trusted: HostKeyTrusted,
    ) -> Result<(), SshError> {
        self.negotiated.host_key = Some(trusted.key);
        self.send_new_keys(algorithms, &schedule)
    }

    /// Sends NEWKEYS and whatever waited for it under the new keys.
    pub(super) fn send_new_keys(
        &mut self,
        algorithms: Algorithms,
        schedule: &KeySchedule,
    ) -> Result<(), SshError> {
        let first = self.negotiated.session_id.is_none();
        let session_id =
            self.negotiated.session_id.get_or_insert_with(|| schedule.exchange_hash.clone()).clone();
        let to_server = schedule.keys(algorithms.client_to_server, CLIENT_TO_SERVER, &session_id);
        let to_client = schedule.keys(algorithms.server_to_client, SERVER_TO_CLIENT, &session_id);
        let (sealing, opening) = match self.role {
            Role::Client => (
                PacketCipher::new(algorithms.client_to_server, &to_server, Use::Seal)?,
                PacketCipher::new(algorithms.server_to_client, &to_client, Use::Open)?,
            ),
            Role::Server => (
                PacketCipher::new(algorithms.server_to_client, &to_client, Use::Seal)?,
                PacketCipher::new(algorithms.client_to_server, &to_server, Use::Open)?,
            ),
        };
        self.codec.send(|out| out.put_byte(number::NEWKEYS))?;
        self.codec.sender.direction.new_keys(sealing, self.negotiated.strict);
        self.kex = Kex::ExpectNewKeys(Box::new(ExpectNewKeys { opening, algorithms }));
        if first && self.negotiated.send_ext_info {
            self.send_ext_info()?;
        }
        for payload in self.deferred.take() {
            self.codec.send(|out| out.put(&payload))?;
        }
        Ok(())
    }

    /// The peer's NEWKEYS: from here on it uses the new keys.
    pub(super) fn handle_new_keys(
        &mut self,
        reader: Reader<'_>,
        now: Instant,
    ) -> Result<TransportEvent, SshError> {
        reader.finish().map_err(SshError::malformed("NEWKEYS"))?;
        let Kex::ExpectNewKeys(state) = std::mem::replace(&mut self.kex, Kex::Moving) else {
            return Err(SshError::Unexpected { expected: "a key exchange first", met: number::NEWKEYS });
        };
        self.codec.receiver.direction.new_keys(state.opening, self.negotiated.strict);
        self.negotiated.algorithms = Some(state.algorithms);
        self.kex = Kex::Quiet;
        self.lifetimes.on_new_keys(now);
        let exchanges = self.lifetimes.exchanges;
        debug!(exchanges, "new keys in use");
        if exchanges == 1 {
            self.extensions = Extensions::First;
        }
        Ok(TransportEvent::NewKeys { first: exchanges == 1 })
    }
}

fn expect(met: u8, number: u8, expected: &'static str) -> Result<(), SshError> {
    if met == number { Ok(()) } else { Err(SshError::Unexpected { expected, met }) }
}

fn verify_host_key(
    algorithms: &Algorithms,
    reply: &Reply<'_>,
    exchange_hash: &[u8],
) -> Result<HostKeyVerified, SshError> {
    let key = PublicKey::decode(reply.host_key).map_err(SshError::HostKey)?;
    let signature = Signature::decode(reply.signature).map_err(SshError::HostKey)?;
    if signature.algorithm != algorithms.host_key || key.key_type() != algorithms.host_key.key_type() {
        return Err(SshError::HostKey(KeyError::Inconsistent(
            "not the host key algorithm that was agreed on",
        )));
    }
    key.verify(exchange_hash, &signature).map_err(SshError::HostKeySignature)?;
    Ok(HostKeyVerified { key })
}
