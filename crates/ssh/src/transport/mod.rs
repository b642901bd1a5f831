//! The transport layer (RFC 4253): identification, key exchange, re-keying, and the packets between.

mod exchange;
mod respond;
mod states;

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_keys::wire::Writer;
use lantern_keys::{PrivateKey, PublicKey, RandomSource, SignatureAlgorithm};
use tracing::{debug, trace};

use crate::algorithm::{KexAlgorithm, Offer};
use crate::disconnect::{self, Disconnect};
use crate::identification::{ExpectIdentification, OURS};
use crate::kex::ClientShare;
use crate::limits::{MAX_DEFERRED_BYTES, MAX_PRE_AUTH_BYTES, REKEY_BYTES, REKEY_PACKETS, REKEY_TIME};
use crate::message::{self, number, transport::ExtInfo};
use crate::negotiate::{self, Algorithms};
use crate::packet::{PacketReceiver, PacketSender, PayloadWriter};
use crate::{Role, SshError};
use states::{ExpectKexInit, Kex};

/// When we ask for new keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RekeyPolicy {
    /// After this many bytes in one direction.
    pub bytes: u64,
    /// After this many packets in one direction.
    pub packets: u64,
    /// After this time.
    pub time: Duration,
}

impl Default for RekeyPolicy {
    fn default() -> Self {
        Self { bytes: REKEY_BYTES, packets: REKEY_PACKETS, time: REKEY_TIME }
    }
}

/// What a server put first in its offer: with it, the next connection's guess is right and saves a round trip.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Guess {
    /// The key exchange method.
    pub kex: KexAlgorithm,
    /// The host key algorithm.
    pub host_key: SignatureAlgorithm,
}

/// What has happened on a connection so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Statistics {
    /// Wire bytes received in packets.
    pub bytes_received: u64,
    /// Wire bytes sent in packets.
    pub bytes_sent: u64,
    /// Key exchanges completed.
    pub key_exchanges: u32,
    /// Latest measured round trip.
    pub round_trip: Option<Duration>,
}

/// What the transport tells the layers above.
#[derive(Debug)]
pub(crate) enum TransportEvent {
    /// A message of a higher layer.
    Packet(Bytes),
    /// The server proved to hold this key, which is not among the known ones: someone must decide.
    HostKey(PublicKey),
    /// New keys are in use both ways; `first` for the first time.
    NewKeys { first: bool },
}

/// What a role brings into its transport.
pub(crate) struct TransportConfig {
    pub(crate) role: Role,
    pub(crate) offer: Offer,
    pub(crate) guess: Option<Guess>,
    pub(crate) known_host_keys: Vec<PublicKey>,
    pub(crate) host_keys: Vec<Arc<PrivateKey>>,
    pub(crate) rekey: RekeyPolicy,
    pub(crate) random: Box<dyn RandomSource>,
}

pub(crate) struct Transport {
    role: Role,
    offer: Offer,
    known_host_keys: Vec<PublicKey>,
    host_keys: Vec<Arc<PrivateKey>>,
    rekey: RekeyPolicy,
    random: Box<dyn RandomSource>,
    sender: PacketSender,
    receiver: PacketReceiver,
    expect_identification: Option<ExpectIdentification>,
    peer_identification: String,
    kex: Kex,
    session_id: Option<Vec<u8>>,
    strict: bool,
    send_ext_info: bool,
    /// Payloads of higher layers that wait for the end of a key exchange.
    deferred: Vec<Vec<u8>>,
    deferred_bytes: usize,
    rekey_at: Option<Instant>,
    host_key: Option<PublicKey>,
    algorithms: Option<Algorithms>,
    server_first: Option<Guess>,
    server_host_keys: Vec<SignatureAlgorithm>,
    key_exchanges: u32,
    ext_info: ExtInfo,
    /// Set by the layer above: before, less is taken from the peer.
    pub(crate) authenticated: bool,
}

impl Transport {
    /// Starts a connection: the identification, the offer and, for a client with one, the guess leave together.
    pub(crate) fn new(config: TransportConfig) -> Result<Self, SshError> {
        let mut transport = Self {
            role: config.role,
            offer: config.offer,
            known_host_keys: config.known_host_keys,
            host_keys: config.host_keys,
            rekey: config.rekey,
            random: config.random,
            sender: PacketSender::new(),
            receiver: PacketReceiver::new(),
            expect_identification: Some(ExpectIdentification::new(config.role)),
            peer_identification: String::new(),
            kex: Kex::Quiet,
            session_id: None,
            strict: false,
            send_ext_info: false,
            deferred: Vec::new(),
            deferred_bytes: 0,
            rekey_at: None,
            host_key: None,
            algorithms: None,
            server_first: None,
            server_host_keys: Vec::new(),
            key_exchanges: 0,
            ext_info: ExtInfo::default(),
            authenticated: false,
        };
        transport.sender.raw(format!("{OURS}\r\n").as_bytes());
        transport.start_kex(config.guess)?;
        Ok(transport)
    }

    /// Sends our KEXINIT, with a guess when there is one.
    pub(crate) fn start_kex(&mut self, guess: Option<Guess>) -> Result<(), SshError> {
        let mut offer = self.offer.clone();
        let guess = guess.filter(|guess| {
            guess.kex != KexAlgorithm::GroupExchange
                && offer.kex.contains(&guess.kex)
                && offer.host_keys.contains(&guess.host_key)
        });
        if let Some(guess) = &guess {
            // A guess only counts as right when it is the first of both sides' lists.
            offer.kex.sort_by_key(|kex| *kex != guess.kex);
            offer.host_keys.sort_by_key(|host_key| *host_key != guess.host_key);
        }
        let first = self.session_id.is_none();
        let mut init = negotiate::kexinit(&offer, self.role, first, &mut *self.random);
        init.first_kex_packet_follows = guess.is_some();
        let payload = init.encode();
        self.sender.packet(&mut *self.random, |out| out.put(&payload))?;
        let guess = match guess {
            Some(guess) => {
                let share = ClientShare::new(guess.kex, None, &mut *self.random)?;
                self.sender.packet(&mut *self.random, |out| share.message(out))?;
                debug!(kex = guess.kex.name(), "sent offer with a guess");
                Some(share)
            }
            None => {
                debug!(first, "sent offer");
                None
            }
        };
        self.kex = Kex::ExpectKexInit(Box::new(ExpectKexInit { ours: init, ours_payload: payload, guess }));
        Ok(())
    }

    /// Works on received bytes until there is something for the layer above, or nothing more to work on.
    pub(crate) fn poll(&mut self, now: Instant) -> Result<Option<TransportEvent>, SshError> {
        if let Some(expect) = &mut self.expect_identification {
            let Some(identification) = expect.poll(&mut self.receiver.buffer)? else { return Ok(None) };
            debug!(peer = identification, "identified");
            self.peer_identification = identification;
            self.expect_identification = None;
        }
        while !matches!(self.kex, Kex::ExpectTrust(_)) {
            let Some(payload) = self.receiver.poll()? else { break };
            if !self.authenticated && self.receiver.bytes_total > MAX_PRE_AUTH_BYTES {
                return Err(SshError::LimitExceeded {
                    what: "bytes before login",
                    limit: MAX_PRE_AUTH_BYTES,
                });
            }
            if let Some(event) = self.handle_packet(payload, now)? {
                return Ok(Some(event));
            }
        }
        self.rekey_if_due(now)?;
        Ok(None)
    }

    fn handle_packet(&mut self, payload: Bytes, now: Instant) -> Result<Option<TransportEvent>, SshError> {
        let (message, reader) = message::open(&payload)?;
        trace!(message, len = payload.len(), "received");
        let first_exchange = self.session_id.is_none() || (self.strict && self.key_exchanges == 0);
        if self.strict && first_exchange && !(number::KEXINIT..=number::KEX_LAST).contains(&message) {
            if message == number::DISCONNECT {
                return self.handle_disconnect(reader);
            }
            // The strict draft: nothing but key exchange messages until it is over, so that a prefix of packets
            // cannot be slipped in and cut off again.
            return Err(SshError::Unexpected { expected: "only key exchange (strict)", met: message });
        }
        match message {
            number::DISCONNECT => self.handle_disconnect(reader),
            number::IGNORE | number::DEBUG | number::UNIMPLEMENTED => Ok(None),
            number::EXT_INFO => {
                let info = ExtInfo::decode(reader).map_err(SshError::malformed("EXT_INFO"))?;
                debug!(server_sig_algs = ?info.server_sig_algs, "extensions");
                if info.server_sig_algs.is_some() {
                    self.ext_info = info;
                }
                Ok(None)
            }
            number::KEXINIT => self.handle_kexinit(&payload, reader).map(|()| None),
            number::NEWKEYS => self.handle_new_keys(reader, now).map(Some),
            number::KEX_FIRST..=number::KEX_LAST => self.handle_kex(message, reader),
            _ if self.kex.peer_may_send() && self.session_id.is_some() => {
                Ok(Some(TransportEvent::Packet(payload)))
            }
            met => Err(SshError::Unexpected { expected: "a key exchange message", met }),
        }
    }

    fn handle_disconnect(
        &self,
        reader: lantern_keys::wire::Reader<'_>,
    ) -> Result<Option<TransportEvent>, SshError> {
        let reason = Disconnect::decode(reader).map_err(SshError::malformed("DISCONNECT"))?;
        Err(SshError::Disconnected(reason))
    }

    /// Sends a message of a higher layer; during a key exchange it waits for the end.
    pub(crate) fn send(&mut self, write: impl FnOnce(&mut PayloadWriter<'_>)) -> Result<(), SshError> {
        if self.can_send() {
            return self.sender.packet(&mut *self.random, write);
        }
        let mut payload = Vec::new();
        write(&mut PayloadWriter::Deferred(&mut payload));
        self.deferred_bytes += payload.len();
        if self.deferred_bytes > MAX_DEFERRED_BYTES {
            return Err(SshError::LimitExceeded {
                what: "bytes waiting for new keys",
                limit: MAX_DEFERRED_BYTES as u64,
            });
        }
        self.deferred.push(payload);
        Ok(())
    }

    /// Whether messages of higher layers leave at once.
    pub(crate) fn can_send(&self) -> bool {
        self.session_id.is_some() && self.kex.we_may_send()
    }

    /// Whether keys are in use both ways and no exchange is going on.
    pub(crate) fn is_settled(&self) -> bool {
        self.key_exchanges > 0 && matches!(self.kex, Kex::Quiet)
    }

    /// Asks for new keys when a limit of the policy is reached.
    pub(crate) fn rekey_if_due(&mut self, now: Instant) -> Result<(), SshError> {
        if !self.is_settled() || !self.authenticated {
            return Ok(());
        }
        let due = self.sender.bytes.max(self.receiver.bytes) >= self.rekey.bytes
            || self.sender.packets.max(self.receiver.packets) >= self.rekey.packets
            || self.rekey_at.is_some_and(|at| now >= at);
        if due { self.start_kex(None) } else { Ok(()) }
    }

    /// When the policy's time is up.
    pub(crate) fn rekey_deadline(&self) -> Option<Instant> {
        self.rekey_at.filter(|_| self.is_settled() && self.authenticated)
    }

    /// Puts the reason for an error of ours on the wire, as far as one may say it.
    pub(crate) fn say_goodbye(&mut self, error: &SshError) {
        let code = match error {
            SshError::Disconnected(_) | SshError::Closed { .. } | SshError::NotSsh { .. } => return,
            SshError::MacMismatch => disconnect::MAC_ERROR,
            SshError::NothingInCommon(_) => disconnect::KEY_EXCHANGE_FAILED,
            SshError::HostKey(_) | SshError::HostKeyChanged { .. } | SshError::HostKeyRejected => {
                disconnect::HOST_KEY_NOT_VERIFIABLE
            }
            SshError::TimedOut { .. } => disconnect::CONNECTION_LOST,
            SshError::Misuse(_) | SshError::Crypto(_) | SshError::Key(_) => disconnect::BY_APPLICATION,
            _ => disconnect::PROTOCOL_ERROR,
        };
        self.disconnect(code, "");
    }

    /// Queues SSH_MSG_DISCONNECT; the driver sends it and closes.
    pub(crate) fn disconnect(&mut self, code: u32, description: &str) {
        let reason = Disconnect { code, description: description.to_owned() };
        debug!(%reason, "disconnecting");
        // Nothing can be done about a failure here: the line is being given up.
        let _ = self.sender.packet(&mut *self.random, |out| reason.encode(out));
    }

    /// What the end of the line means now.
    pub(crate) fn end(&self) -> SshError {
        match &self.expect_identification {
            Some(expect) => expect.not_ssh(&self.receiver.buffer),
            None if self.key_exchanges == 0 => SshError::Closed { during: "during the key exchange" },
            None if !self.authenticated => SshError::Closed { during: "before login was complete" },
            None => SshError::Closed { during: "without saying why" },
        }
    }

    /// What we wait for before login, in words.
    pub(crate) fn stage(&self) -> &'static str {
        match (&self.expect_identification, self.key_exchanges) {
            (Some(_), _) => "while waiting for the identification",
            (None, 0) => "during the key exchange",
            _ => "during authentication",
        }
    }
}

/// What the layers above look up.
impl Transport {
    pub(crate) fn receiver(&mut self) -> &mut PacketReceiver {
        &mut self.receiver
    }

    pub(crate) fn sender(&mut self) -> &mut PacketSender {
        &mut self.sender
    }

    pub(crate) fn pending(&self) -> &[u8] {
        self.sender.pending()
    }

    pub(crate) fn awaits_trust(&self) -> bool {
        matches!(self.kex, Kex::ExpectTrust(_))
    }

    /// The server role's own keys.
    pub(crate) fn host_keys(&self) -> &[Arc<PrivateKey>] {
        &self.host_keys
    }

    pub(crate) fn session_id(&self) -> Option<&[u8]> {
        self.session_id.as_deref()
    }

    pub(crate) fn algorithms(&self) -> Option<&Algorithms> {
        self.algorithms.as_ref()
    }

    pub(crate) fn host_key(&self) -> Option<&PublicKey> {
        self.host_key.as_ref()
    }

    pub(crate) fn peer_identification(&self) -> &str {
        &self.peer_identification
    }

    pub(crate) fn server_host_keys(&self) -> &[SignatureAlgorithm] {
        &self.server_host_keys
    }

    pub(crate) fn server_first(&self) -> Option<&Guess> {
        self.server_first.as_ref()
    }

    pub(crate) fn is_strict(&self) -> bool {
        self.strict
    }

    /// The signature algorithms that the server says it takes from users (RFC 8308 §3.1).
    pub(crate) fn server_sig_algs(&self) -> Option<&[String]> {
        self.ext_info.server_sig_algs.as_deref()
    }

    pub(crate) fn statistics(&self, round_trip: Option<Duration>) -> Statistics {
        Statistics {
            bytes_received: self.receiver.bytes_total,
            bytes_sent: self.sender.bytes_total,
            key_exchanges: self.key_exchanges,
            round_trip,
        }
    }
}
