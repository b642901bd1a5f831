//! The client role, whole: what a driver feeds and what it hears.

use std::collections::VecDeque;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use lantern_keys::{PublicKey, RandomSource, SecretString};

use crate::auth::Flushed;
use crate::auth::client::{Attempt, AuthEvent, ClientAuth};
use crate::base::Base;
use crate::base::machine_methods;
use crate::channel::{ChannelEvent, ChannelId};
use crate::connection::Connection;
use crate::early::Early;
use crate::global::GlobalEvent;
use crate::limits::DEFAULT_HANDSHAKE_TIME;
use crate::message::number;
use crate::patience::Patience;
use crate::transport::{Guess, RekeyPolicy, Statistics, Transport, TransportConfig, TransportEvent};
use crate::{Algorithms, Machine, Offer, Role, SshError, disconnect};

/// What a connection is to be.
pub struct ClientConfig {
    /// The user to log in as.
    pub user: String,
    /// The algorithms, in order of preference.
    pub offer: Offer,
    /// What the last connection to it ended up with, where that is worth a guess: see [`Client::next_guess`].
    pub guess: Option<Guess>,
    /// Host keys that are accepted without asking.
    pub known_host_keys: Vec<PublicKey>,
    /// When new keys are asked for.
    pub rekey: RekeyPolicy,
    /// Longest wait for each answer of the server until keys are agreed.
    pub handshake_time: Duration,
    /// Longest wait for each answer while logging in.
    pub login_time: Duration,
    /// How often a silent server is asked whether it is still there; none: never.
    pub keepalive: Option<Duration>,
    /// After how many questions without an answer the link counts as dead.
    pub keepalive_misses: u32,
    /// Random bytes.
    pub random: Box<dyn RandomSource>,
}

impl ClientConfig {
    /// The defaults for this user.
    pub fn new(user: String, offer: Offer, random: Box<dyn RandomSource>) -> Self {
        Self {
            user,
            offer,
            guess: None,
            known_host_keys: Vec::new(),
            rekey: RekeyPolicy::default(),
            handshake_time: DEFAULT_HANDSHAKE_TIME,
            login_time: DEFAULT_HANDSHAKE_TIME,
            keepalive: None,
            keepalive_misses: 3,
            random,
        }
    }
}

/// What a client hears.
#[derive(Debug)]
pub enum ClientEvent {
    /// The server proved to hold a host key that is not among the known ones. Decide with
    /// [`Client::accept_host_key`] or [`Client::reject_host_key`]; until then nothing goes on.
    HostKey(PublicKey),
    /// Keys are in use for the first time.
    Established,
    /// Something about authentication.
    Auth(AuthEvent),
    /// Something about a channel.
    Channel(ChannelId, ChannelEvent),
    /// Something outside any channel.
    Global(GlobalEvent),
}

/// A connection in the client role. See the crate's front page for how to drive it.
pub struct Client {
    pub(crate) base: Base,
    pub(crate) auth: ClientAuth,
    pub(crate) early: Early,
    events: VecDeque<ClientEvent>,
    handshake_time: Duration,
    login_time: Duration,
    keepalive: Option<Duration>,
    keepalive_misses: u32,
    patience: Patience,
    last_heard: Instant,
}

impl Client {
    /// Starts a connection; what is to be sent first is pending at once.
    ///
    /// # Errors
    /// Only when the cryptographic library fails.
    pub fn new(config: ClientConfig, now: Instant) -> Result<Self, SshError> {
        Self::with(config, Transport::new, now)
    }

    /// The same with another beginning.
    pub(crate) fn with(
        config: ClientConfig,
        begin: impl FnOnce(TransportConfig, Instant) -> Result<Transport, SshError>,
        now: Instant,
    ) -> Result<Self, SshError> {
        let transport = TransportConfig {
            role: Role::Client,
            offer: config.offer,
            guess: config.guess,
            known_host_keys: config.known_host_keys,
            host_keys: Vec::new(),
            rekey: config.rekey,
            exchange_time: config.handshake_time,
            random: config.random,
        };
        let transport = begin(transport, now)?;
        Ok(Self {
            base: Base::new(transport, Connection::new(Role::Client)),
            auth: ClientAuth::new(config.user),
            early: Early::default(),
            events: VecDeque::new(),
            handshake_time: config.handshake_time,
            login_time: config.login_time,
            keepalive: config.keepalive,
            keepalive_misses: config.keepalive_misses,
            patience: Patience::new(now),
            last_heard: now,
        })
    }

    /// The next event.
    pub fn poll_event(&mut self) -> Option<ClientEvent> {
        self.events.pop_front().or_else(|| {
            if let Some(event) = self.base.connection.globals.events.pop_front() {
                return Some(ClientEvent::Global(event));
            }
            let (id, event) = self.base.connection.poll_event()?;
            Some(ClientEvent::Channel(id, event))
        })
    }

    /// Accepts the key of [`ClientEvent::HostKey`]; input that waited is worked on.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when no key awaits a decision; else as [`Machine::handle_input`].
    pub fn accept_host_key(&mut self, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.base.transport.trust_host_key()?;
        self.patience.restart(now);
        self.handle_input(now)
    }

    /// Rejects the key of [`ClientEvent::HostKey`]: the server is told, and the connection is over.
    pub fn reject_host_key(&mut self) -> SshError {
        self.base.fail(SshError::HostKeyRejected)
    }

    /// Starts an attempt to authenticate, at once or as soon as there are keys.
    ///
    /// # Errors
    /// [`SshError::Misuse`] while another attempt is under way, [`SshError::Key`] when a key cannot sign; what ended the
    /// connection.
    pub fn authenticate(&mut self, attempt: Attempt, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.auth.attempt(attempt)?;
        self.patience.restart(now);
        self.flush_auth(now)
    }

    /// Answers [`AuthEvent::Prompts`].
    ///
    /// # Errors
    /// [`SshError::Misuse`] when nothing was asked; what ended the connection.
    pub fn answer_prompts(&mut self, answers: &[SecretString], now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.patience.restart(now);
        self.auth.answer(answers, &mut self.base.transport)
    }

    /// Completes [`AuthEvent::SignatureWanted`] with a signature in its wire form.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when none is wanted; what ended the connection.
    pub fn supply_signature(&mut self, signature: &[u8], now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.patience.restart(now);
        self.auth.supply_signature(signature, &mut self.base.transport)?;
        self.follow_login(true, now)
    }

    fn flush_auth(&mut self, now: Instant) -> Result<(), SshError> {
        if self.base.transport.awaits_trust() {
            return Ok(());
        }
        match self.auth.flush(&mut self.base.transport)? {
            Flushed::Nothing => Ok(()),
            Flushed::Sent { is_signed } => self.follow_login(is_signed, now),
            Flushed::Event(event) => {
                self.events.push_back(ClientEvent::Auth(event));
                Ok(())
            }
        }
    }

    fn handle_packet(&mut self, payload: Bytes, now: Instant) -> Result<(), SshError> {
        let (message, reader) = crate::message::open(&payload)?;
        match message {
            number::SERVICE_ACCEPT | 50..=79 => {
                if let Some(event) = self.auth.handle(message, reader)? {
                    if !matches!(event, AuthEvent::Succeeded | AuthEvent::Banner(_)) {
                        self.void_early();
                    }
                    self.base.transport.authenticated = self.auth.is_done();
                    self.events.push_back(ClientEvent::Auth(event));
                }
                Ok(())
            }
            met if !self.auth.is_done() => Err(SshError::Unexpected { expected: "authentication", met }),
            _ => {
                let awaited = self.early_is_awaited();
                self.base.connection.handle(payload, &mut self.base.transport, now)?;
                if awaited { self.time_after_early(now) } else { Ok(()) }
            }
        }
    }

    fn work(&mut self, now: Instant) -> Result<(), SshError> {
        while let Some(event) = self.base.transport.poll(now)? {
            match event {
                TransportEvent::HostKey(key) => self.events.push_back(ClientEvent::HostKey(key)),
                TransportEvent::NewKeys { first: true } => self.events.push_back(ClientEvent::Established),
                TransportEvent::NewKeys { first: false } => {}
                TransportEvent::Packet(payload) => self.handle_packet(payload, now)?,
            }
        }
        self.flush_auth(now)?;
        if !self.waits_before_login() {
            self.patience.pause(now);
        }
        Ok(())
    }

    fn waits_before_login(&self) -> bool {
        !self.auth.is_done()
            && !self.base.transport.awaits_trust()
            && (!self.base.transport.is_settled() || self.auth.waits_for_peer())
    }

    /// How long the next answer may take.
    fn answer_limit(&self) -> Duration {
        if self.base.transport.is_settled() { self.login_time } else { self.handshake_time }
    }

    /// Ends the connection politely; send what is pending, then close.
    pub fn disconnect(&mut self) {
        self.base.disconnect(disconnect::BY_APPLICATION, "");
    }

    /// Whether the server has answered an attempt to log in, and login is not complete.
    pub fn is_logging_in(&self) -> bool {
        self.auth.answers() > 0 && !self.auth.is_done()
    }

    /// Bytes that are packets already and have not been sent.
    pub fn unsent(&self) -> usize {
        self.base.transport.pending().len()
    }

    /// Takes the bytes that have not been sent: the last words, once the connection has ended.
    pub fn take_unsent(&mut self) -> Bytes {
        let unsent = Bytes::copy_from_slice(self.base.transport.pending());
        self.base.transport.sender().sent(unsent.len());
        unsent
    }

    /// What this connection makes us hold, in bytes, at the worst: never more than [`crate::limits::MAX_HELD`].
    pub fn held_bytes(&self) -> u64 {
        let events = self.events.len() * size_of::<ClientEvent>();
        (self.base.held_bytes() + events) as u64
    }

    /// The algorithms in use, once there are keys.
    pub fn algorithms(&self) -> Option<&Algorithms> {
        self.base.transport.algorithms()
    }

    /// The trusted host key, once there are keys.
    pub fn host_key(&self) -> Option<&PublicKey> {
        self.base.transport.host_key()
    }

    /// The server's identification line.
    pub fn peer_identification(&self) -> &str {
        self.base.transport.peer_identification()
    }

    /// What the next connection to this server may guess: the method that was chosen, where the server lists it first, and the host
    /// key algorithm that it lists first. The next offer has to prefer that one, by [`Offer::prefer_host_keys`]; none where
    /// a guess can gain nothing.
    pub fn next_guess(&self) -> Option<&Guess> {
        self.base.transport.next_guess()
    }

    /// The algorithms that the server has host keys for, as far as we know them, in its order of preference.
    pub fn server_host_key_algorithms(&self) -> &[lantern_keys::SignatureAlgorithm] {
        self.base.transport.server_host_keys()
    }

    /// Whether strict key exchange is in force.
    pub fn is_strict(&self) -> bool {
        self.base.transport.is_strict()
    }

    /// Counters of the connection.
    pub fn statistics(&self) -> Statistics {
        self.base.transport.statistics(self.base.connection.round_trips.latest())
    }

    /// How long the server has been silent.
    pub fn idle(&self, now: Instant) -> Duration {
        now.saturating_duration_since(self.last_heard)
    }
}

impl Machine for Client {
    machine_methods!();

    fn receive_buffer(&mut self) -> &mut BytesMut {
        &mut self.base.transport.receiver().buffer
    }

    fn wants_input(&self) -> bool {
        self.base.has_room() && !self.base.transport.awaits_trust()
    }

    fn handle_input(&mut self, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.last_heard = now;
        self.base.connection.unanswered_keepalives = 0;
        self.work(now).map_err(|error| self.base.fail(error))
    }

    fn poll_timeout(&self) -> Option<Instant> {
        if self.base.failure().is_some() {
            return None;
        }
        let patience =
            self.waits_before_login().then(|| self.patience.deadline(self.answer_limit())).flatten();
        let keepalive = self
            .keepalive
            .filter(|_| self.auth.is_done())
            .map(|interval| self.last_heard + interval * (self.base.connection.unanswered_keepalives + 1));
        [patience, keepalive, self.base.transport.poll_timeout()].into_iter().flatten().min()
    }

    fn handle_timeout(&mut self, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.act_on_deadlines(now).map_err(|error| self.base.fail(error))
    }
}

impl Client {
    fn act_on_deadlines(&mut self, now: Instant) -> Result<(), SshError> {
        if self.waits_before_login()
            && self.patience.deadline(self.answer_limit()).is_some_and(|deadline| now >= deadline)
        {
            let seconds = self.answer_limit().as_secs().max(self.patience.spent(now).as_secs());
            return Err(self.base.transport.took_too_long(seconds));
        }
        if let Some(interval) = self.keepalive.filter(|_| self.auth.is_done()) {
            let asked = self.base.connection.unanswered_keepalives;
            if now >= self.last_heard + interval * (asked + 1) {
                if asked >= self.keepalive_misses {
                    let seconds = now.saturating_duration_since(self.last_heard).as_secs();
                    return Err(SshError::TimedOut {
                        seconds,
                        during: "to our questions whether it is still there",
                    });
                }
                self.base.connection.send_keepalive(&mut self.base.transport, now)?;
            }
        }
        self.base.transport.handle_timeout(now)
    }
}
