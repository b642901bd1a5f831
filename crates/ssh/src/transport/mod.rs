//! The transport layer (RFC 4253): identification, key exchange, re-keying, and the packets between.

mod codec;
mod deferred;
mod exchange;
mod joined;
mod lifetimes;
mod lookups;
mod negotiated;
mod respond;
mod states;

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_keys::wire::{Reader, Writer};
use lantern_keys::{PrivateKey, PublicKey, RandomSource, SignatureAlgorithm};
use tracing::{debug, trace};

use crate::algorithm::{KexAlgorithm, Offer};
use crate::disconnect::{self, Disconnect};
use crate::identification::{ExpectIdentification, OURS};
use crate::kex::ClientShare;
use crate::limits::{MAX_PRE_AUTH_BYTES, REKEY_BYTES, REKEY_PACKETS, REKEY_TIME};
use crate::message::{self, number, transport::ExtInfo};
use crate::negotiate;
use crate::packet::PayloadWriter;
use crate::{Role, SshError};
use codec::Codec;
use deferred::Deferred;
pub use joined::Joining;
use lifetimes::Lifetimes;
use negotiated::Negotiated;
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

/// What to offer first, with a share of it sent along before the server has said what it has: where that is also what the
/// server lists first, it saves a round trip. It never changes what is chosen.
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
    /// Longest time for a re-exchange.
    pub(crate) exchange_time: Duration,
    pub(crate) random: Box<dyn RandomSource>,
}

pub(crate) struct Transport {
    role: Role,
    offer: Offer,
    known_host_keys: Vec<PublicKey>,
    host_keys: Vec<Arc<PrivateKey>>,
    codec: Codec,
    negotiated: Negotiated,
    lifetimes: Lifetimes,
    expect_identification: Option<ExpectIdentification>,
    kex: Kex,
    deferred: Deferred,
    extensions: Extensions,
    /// Whether the reason for the end has been put on the wire.
    said_goodbye: bool,
    /// It is a part of somebody else's connection.
    is_joined: bool,
    /// Set by the layer above: before, less is taken from the peer.
    pub(crate) authenticated: bool,
}

/// Where EXT_INFO may come (RFC 8308 §2.4): as the first packet under the peer's first keys, and, from a server, right
/// before USERAUTH_SUCCESS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Extensions {
    /// No keys yet: nothing in clear is believed.
    NotYet,
    /// The next packet may be one.
    First,
    /// The first place is past.
    Later,
    /// One has come in the second place: the next packet must be USERAUTH_SUCCESS.
    BeforeSuccess,
}

impl Transport {
    /// Starts a connection: the identification, the offer and, for a client with one, the guess leave together.
    pub(crate) fn new(config: TransportConfig, now: Instant) -> Result<Self, SshError> {
        let guess = config.guess.clone();
        let mut transport = Self::unstarted(config);
        transport.codec.sender.raw(format!("{OURS}\r\n").as_bytes());
        transport.start_kex(guess, now)?;
        Ok(transport)
    }

    /// One that has said nothing yet.
    pub(crate) fn unstarted(config: TransportConfig) -> Self {
        Self {
            role: config.role,
            offer: config.offer,
            known_host_keys: config.known_host_keys,
            host_keys: config.host_keys,
            codec: Codec::new(config.random),
            negotiated: Negotiated::default(),
            lifetimes: Lifetimes::new(config.rekey, config.exchange_time),
            expect_identification: Some(ExpectIdentification::new(config.role)),
            kex: Kex::Quiet,
            deferred: Deferred::default(),
            extensions: Extensions::NotYet,
            said_goodbye: false,
            is_joined: false,
            authenticated: false,
        }
    }

    /// Sends our KEXINIT, with a guess when there is one.
    pub(crate) fn start_kex(&mut self, guess: Option<Guess>, now: Instant) -> Result<(), SshError> {
        let mut offer = self.offer.clone();
        if let Some(trusted) = self.negotiated.host_key.as_ref().filter(|_| self.role == Role::Client) {
            // The key that was trusted is the only one that will do in a re-exchange, so no algorithm of another is
            // offered: a server with keys of several kinds would else be free to present one of those.
            offer.host_keys.retain(|algorithm| trusted.signature_algorithms().contains(algorithm));
        }
        let first = self.negotiated.session_id.is_none();
        let preferred = negotiate::kexinit(&offer, self.role, first, &mut *self.codec.random);
        let guess = guess.filter(|guess| {
            guess.kex != KexAlgorithm::GroupExchange
                && offer.kex.contains(&guess.kex)
                && offer.host_keys.contains(&guess.host_key)
        });
        let mut init = preferred.clone();
        if let Some(guess) = &guess {
            // A guess only counts as right when it is the first of both sides' lists.
            init.kex.sort_by_key(|name| name != guess.kex.name());
            init.host_keys.sort_by_key(|name| name != guess.host_key.name());
        }
        init.first_kex_packet_follows = guess.is_some();
        let payload = init.encode();
        self.codec.send(|out| out.put(&payload))?;
        let share = match &guess {
            Some(guess) => {
                let share = ClientShare::new(guess.kex, None, &mut *self.codec.random)?;
                self.codec.send(|out| share.message(out))?;
                debug!(kex = guess.kex.name(), "sent offer with a guess");
                Some(share)
            }
            None => {
                debug!(first, "sent offer");
                None
            }
        };
        self.lifetimes.on_offer(now);
        let expect = ExpectKexInit { ours: init, ours_payload: payload, preferred, guess: share };
        self.kex = Kex::ExpectKexInit(Box::new(expect));
        Ok(())
    }

    /// Works on received bytes until there is something for the layer above, or nothing more to work on.
    pub(crate) fn poll(&mut self, now: Instant) -> Result<Option<TransportEvent>, SshError> {
        if let Some(expect) = &mut self.expect_identification {
            let Some(identification) = expect.poll(&mut self.codec.receiver.buffer)? else { return Ok(None) };
            debug!(peer = %crate::neutralize(&identification, 255), "identified");
            self.negotiated.peer_identification = identification;
            self.expect_identification = None;
        }
        while !matches!(self.kex, Kex::ExpectTrust(_)) {
            let Some(payload) = self.codec.receiver.poll()? else { break };
            if !self.authenticated && self.codec.receiver.direction.bytes_total > MAX_PRE_AUTH_BYTES {
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
        let negotiated = &self.negotiated;
        let first_exchange =
            negotiated.session_id.is_none() || (negotiated.strict && self.lifetimes.exchanges == 0);
        if negotiated.strict && first_exchange && !(number::KEXINIT..=number::KEX_LAST).contains(&message) {
            if message == number::DISCONNECT {
                return self.handle_disconnect(reader);
            }
            // The strict draft: nothing but key exchange messages until it is over, so that a prefix of packets
            // cannot be slipped in and cut off again.
            return Err(SshError::Unexpected { expected: "only key exchange (strict)", met: message });
        }
        let place = self.extensions;
        if place != Extensions::NotYet {
            self.extensions = Extensions::Later;
        }
        if place == Extensions::BeforeSuccess
            && !matches!(message, number::USERAUTH_SUCCESS | number::DISCONNECT)
        {
            return Err(SshError::Unexpected {
                expected: "the success that extensions announce (RFC 8308 §2.4)",
                met: message,
            });
        }
        match message {
            number::DISCONNECT => self.handle_disconnect(reader),
            number::KEXINIT..=number::KEX_LAST if self.is_joined => {
                Err(SshError::Unexpected { expected: "no key exchange on a joined connection", met: message })
            }
            number::IGNORE | number::DEBUG | number::UNIMPLEMENTED => Ok(None),
            number::EXT_INFO => self.handle_ext_info(place, reader).map(|()| None),
            number::KEXINIT => self.handle_kexinit(&payload, reader, now).map(|()| None),
            number::NEWKEYS => self.handle_new_keys(reader, now).map(Some),
            number::KEX_FIRST..=number::KEX_LAST => self.handle_kex(message, reader),
            _ if self.kex.peer_may_send() && self.negotiated.session_id.is_some() => {
                Ok(Some(TransportEvent::Packet(payload)))
            }
            met => Err(SshError::Unexpected { expected: "a key exchange message", met }),
        }
    }

    fn handle_ext_info(&mut self, place: Extensions, reader: Reader<'_>) -> Result<(), SshError> {
        match place {
            Extensions::First => {}
            Extensions::Later if self.role == Role::Client && !self.authenticated => {
                self.extensions = Extensions::BeforeSuccess;
            }
            _ => {
                return Err(SshError::Unexpected {
                    expected: "no extensions here (RFC 8308 §2.4)",
                    met: number::EXT_INFO,
                });
            }
        }
        let info = ExtInfo::decode(reader).map_err(SshError::malformed("EXT_INFO"))?;
        debug!(server_sig_algs = info.server_sig_algs.as_ref().map(|names| names.join(", ")), "extensions");
        if info.server_sig_algs.is_some() {
            self.negotiated.ext_info = info;
        }
        Ok(())
    }

    fn handle_disconnect(&self, reader: Reader<'_>) -> Result<Option<TransportEvent>, SshError> {
        let reason = Disconnect::decode(reader).map_err(SshError::malformed("DISCONNECT"))?;
        Err(if self.is_joined { SshError::Told(reason.description) } else { SshError::Disconnected(reason) })
    }

    /// Sends a message of a higher layer; during a key exchange it waits for the end.
    pub(crate) fn send(&mut self, write: impl FnOnce(&mut PayloadWriter<'_>)) -> Result<(), SshError> {
        if self.can_send() { self.codec.send(write) } else { self.deferred.push(write) }
    }

    /// Whether messages of higher layers leave at once.
    pub(crate) fn can_send(&self) -> bool {
        self.negotiated.session_id.is_some() && self.kex.we_may_send()
    }

    /// Whether keys are in use both ways and no exchange is going on.
    pub(crate) fn is_settled(&self) -> bool {
        self.lifetimes.exchanges > 0 && matches!(self.kex, Kex::Quiet)
    }

    /// Asks for new keys when a limit of the policy is reached.
    pub(crate) fn rekey_if_due(&mut self, now: Instant) -> Result<(), SshError> {
        let idle = self.is_settled() && self.authenticated;
        match idle && self.lifetimes.is_due(&self.codec.sender, &self.codec.receiver, now) {
            true => self.start_kex(None, now),
            false => Ok(()),
        }
    }

    /// Acts on deadlines of the keys.
    ///
    /// # Errors
    /// [`SshError::TimedOut`]
    pub(crate) fn handle_timeout(&mut self, now: Instant) -> Result<(), SshError> {
        self.lifetimes.check(now)?;
        self.rekey_if_due(now)
    }

    /// When [`Self::handle_timeout`] is due.
    pub(crate) fn poll_timeout(&self) -> Option<Instant> {
        let renew = self.lifetimes.renew_at().filter(|_| self.is_settled() && self.authenticated);
        [renew, self.lifetimes.exchange_deadline()].into_iter().flatten().min()
    }

    /// Puts the reason for an error of ours on the wire, as far as one may say it, once.
    pub(crate) fn say_goodbye(&mut self, error: &SshError) {
        let code = match error {
            SshError::Disconnected(_)
            | SshError::Closed { .. }
            | SshError::HolderEnded
            | SshError::Told(_)
            | SshError::Given(_)
            | SshError::NotSsh { .. }
            | SshError::Busy { .. } => return,
            SshError::MacMismatch => disconnect::MAC_ERROR,
            SshError::NothingInCommon(_) => disconnect::KEY_EXCHANGE_FAILED,
            SshError::HostKey(_)
            | SshError::HostKeySignature(_)
            | SshError::HostKeyChanged { .. }
            | SshError::HostKeyRejected => disconnect::HOST_KEY_NOT_VERIFIABLE,
            SshError::TimedOut { .. } => disconnect::CONNECTION_LOST,
            SshError::Misuse(_) | SshError::Crypto(_) | SshError::Key(_) | SshError::GuessOutdated => {
                disconnect::BY_APPLICATION
            }
            _ => disconnect::PROTOCOL_ERROR,
        };
        self.disconnect(code, "");
    }

    /// Queues SSH_MSG_DISCONNECT, once; the driver sends it and closes.
    pub(crate) fn disconnect(&mut self, code: u32, description: &str) {
        if std::mem::replace(&mut self.said_goodbye, true) {
            return;
        }
        let reason = Disconnect { code, description: description.to_owned() };
        debug!(%reason, "disconnecting");
        // Nothing can be done about a failure here: the line is being given up.
        let _ = self.codec.send(|out| reason.encode(out));
    }

    /// What the end of the line means now.
    pub(crate) fn end(&self) -> SshError {
        match &self.expect_identification {
            Some(expect) => expect.ended(&self.codec.receiver.buffer),
            None if self.is_joined => SshError::HolderEnded,
            None if self.lifetimes.exchanges == 0 => SshError::Closed { during: "during the key exchange" },
            None if !self.authenticated => SshError::Closed { during: "before login was complete" },
            None => SshError::Closed { during: "without saying why" },
        }
    }

    /// What it means that the peer took too long to get as far as keys or login.
    pub(crate) fn took_too_long(&self, seconds: u64) -> SshError {
        let buffer = &self.codec.receiver.buffer;
        match (&self.expect_identification, self.lifetimes.exchanges) {
            (Some(expect), _) if expect.is_something_else(buffer) => expect.not_ssh(buffer),
            (Some(_), _) => SshError::TimedOut { seconds, during: "while waiting for the identification" },
            (None, 0) => SshError::TimedOut { seconds, during: "during the key exchange" },
            _ => SshError::TimedOut { seconds, during: "during authentication" },
        }
    }
}
