//! The server role, whole: what the simulated machines and the tests speak through.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use lantern_keys::wire::Writer;
use lantern_keys::{PrivateKey, RandomSource, SignatureAlgorithm};

use crate::auth::server::{AuthAnswer, AuthRequest, ServerAuth};
use crate::base::Base;
use crate::base::{channel_methods, machine_methods};
use crate::channel::{ChannelEnded, ChannelEvent, ChannelId, Stream};
use crate::connection::Connection;
use crate::global::GlobalEvent;
use crate::limits::DEFAULT_HANDSHAKE_TIME;
use crate::message::connection::{OpenFailure, SessionRequest};
use crate::message::number;
use crate::message::peer_channel::PeerChannel;
use crate::transport::{RekeyPolicy, Statistics, Transport, TransportConfig, TransportEvent};
use crate::{Algorithms, ListenTicket, Machine, Offer, Role, SshError, disconnect};

/// What a server is to be.
pub struct ServerConfig {
    /// The algorithms; host key algorithms without a key are left out.
    pub offer: Offer,
    /// The host keys.
    pub host_keys: Vec<Arc<PrivateKey>>,
    /// When new keys are asked for.
    pub rekey: RekeyPolicy,
    /// Longest wait for a client to log in.
    pub handshake_time: Duration,
    /// The number of its first channel; any will do (RFC 4254 §5.1).
    pub first_channel: u32,
    /// Random bytes.
    pub random: Box<dyn RandomSource>,
}

impl ServerConfig {
    /// The defaults with these host keys.
    pub fn new(host_keys: Vec<Arc<PrivateKey>>, offer: Offer, random: Box<dyn RandomSource>) -> Self {
        let rekey = RekeyPolicy::default();
        Self { offer, host_keys, rekey, handshake_time: DEFAULT_HANDSHAKE_TIME * 4, first_channel: 0, random }
    }
}

/// What a server hears.
#[derive(Debug)]
pub enum ServerEvent {
    /// A client wants to log in; decide with [`Server::answer_auth`]. Until then nothing goes on.
    Auth(AuthRequest),
    /// Something about a channel.
    Channel(ChannelId, ChannelEvent),
    /// Something outside channels: where the client wants us to listen.
    Global(GlobalEvent),
}

/// A connection in the server role.
pub struct Server {
    base: Base,
    auth: ServerAuth,
    events: VecDeque<ServerEvent>,
    deadline: Instant,
    handshake_time: Duration,
}

impl Server {
    /// Starts a connection that a client has opened.
    ///
    /// # Errors
    /// Only when the cryptographic library fails.
    pub fn new(config: ServerConfig, now: Instant) -> Result<Self, SshError> {
        Self::with(config, Transport::new, now)
    }

    /// The same with another beginning.
    pub(crate) fn with(
        config: ServerConfig,
        begin: impl FnOnce(TransportConfig, Instant) -> Result<Transport, SshError>,
        now: Instant,
    ) -> Result<Self, SshError> {
        let mut offer = config.offer;
        let has_key = |algorithm: &SignatureAlgorithm| {
            config.host_keys.iter().any(|key| key.signature_algorithms().contains(algorithm))
        };
        offer.host_keys.retain(has_key);
        let transport = TransportConfig {
            role: Role::Server,
            offer,
            guess: None,
            known_host_keys: Vec::new(),
            host_keys: config.host_keys,
            rekey: config.rekey,
            exchange_time: config.handshake_time,
            random: config.random,
        };
        let transport = begin(transport, now)?;
        Ok(Self {
            base: Base::new(transport, Connection::numbered_from(Role::Server, config.first_channel)),
            auth: ServerAuth::new(),
            events: VecDeque::new(),
            deadline: now + config.handshake_time,
            handshake_time: config.handshake_time,
        })
    }

    /// Takes part in the connection protocol alone, and leaves it to the caller what sessions become of.
    pub(crate) fn skip_login(&mut self) {
        self.base.connection.asks_about_sessions = true;
        self.auth.skip();
    }

    /// The next event.
    pub fn poll_event(&mut self) -> Option<ServerEvent> {
        let connection = &mut self.base.connection;
        let global = || connection.globals.events.pop_front().map(ServerEvent::Global);
        self.events.pop_front().or_else(global).or_else(|| {
            let (id, event) = self.base.connection.poll_event()?;
            Some(ServerEvent::Channel(id, event))
        })
    }

    /// Answers [`GlobalEvent::ListenWanted`]: with the port that is listened on, 0 where it is a socket, or with a refusal.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when nothing awaits that answer.
    pub fn answer_listen(&mut self, ticket: ListenTicket, port: Option<u16>) -> Result<(), SshError> {
        self.base.connection.globals.answer_listen(ticket, port, &mut self.base.transport)
    }

    /// Decides on [`ServerEvent::Auth`]; input that waited is worked on.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when nothing awaits a decision; else as [`Machine::handle_input`].
    pub fn answer_auth(&mut self, answer: AuthAnswer, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.auth.answer(answer, &mut self.base.transport)?;
        self.base.transport.authenticated = self.auth.is_done();
        self.handle_input(now)
    }

    /// Asks the client for a sign of life: its answer also says how long a round trip is, by which windows grow.
    ///
    /// # Errors
    /// Only internal ones.
    pub fn ask_for_life(&mut self, now: Instant) -> Result<(), SshError> {
        self.base.connection.send_keepalive(&mut self.base.transport, now)
    }

    /// Shows a text before login (RFC 4252 §5.4).
    ///
    /// # Errors
    /// Only internal ones.
    pub fn banner(&mut self, text: &str) -> Result<(), SshError> {
        self.base.transport.send(|out| {
            out.put_byte(number::USERAUTH_BANNER);
            out.put_string(text.as_bytes());
            out.put_string(b"");
        })
    }

    fn work(&mut self, now: Instant) -> Result<(), SshError> {
        // While the caller decides, what the client sent ahead has to wait.
        while !self.auth.is_deciding() {
            match self.base.transport.poll(now)? {
                None => break,
                Some(TransportEvent::Packet(payload)) => self.handle_packet(payload, now)?,
                Some(TransportEvent::HostKey(_) | TransportEvent::NewKeys { .. }) => {}
            }
        }
        Ok(())
    }

    fn handle_packet(&mut self, payload: Bytes, now: Instant) -> Result<(), SshError> {
        let (message, reader) = crate::message::open(&payload)?;
        match message {
            number::SERVICE_REQUEST | 50..=79 => {
                if let Some(request) = self.auth.handle(message, reader, &mut self.base.transport)? {
                    self.events.push_back(ServerEvent::Auth(request));
                }
                Ok(())
            }
            met if !self.auth.is_done() => Err(SshError::Unexpected { expected: "authentication", met }),
            _ => self.base.connection.handle(payload, &mut self.base.transport, now),
        }
    }

    /// Asks for new keys now.
    ///
    /// # Errors
    /// [`SshError::Misuse`] while an exchange is going on.
    pub fn rekey(&mut self, now: Instant) -> Result<(), SshError> {
        match self.base.transport.is_settled() {
            true => self.base.transport.start_kex(None, now),
            false => Err(SshError::Misuse("a key exchange is going on")),
        }
    }

    /// Ends the connection with a reason code of [`crate::disconnect`] and a text.
    pub fn disconnect(&mut self, code: u32, text: &str) {
        self.base.disconnect(code, text);
    }

    /// Tells the client that it failed to log in too often, and ends the connection.
    pub fn disconnect_after_failures(&mut self) {
        self.base.disconnect(disconnect::NO_MORE_AUTH_METHODS, "too many failures");
    }

    /// Makes a request on a channel behind the data that waits there, without wanting an answer: exit-status, exit-signal.
    ///
    /// # Errors
    /// [`ChannelEnded`]
    pub fn channel_request(&mut self, id: ChannelId, request: &SessionRequest) -> Result<(), ChannelEnded> {
        self.base.request(id, request, false, true)
    }

    /// Opens a channel to something on the client's side: its agent, its display, or where a port that it asked for leads.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login or with too many channels.
    pub fn open_channel(&mut self, to: &PeerChannel, now: Instant) -> Result<ChannelId, SshError> {
        self.base.alive()?;
        if !self.auth.is_done() {
            return Err(SshError::Misuse("channels open after login"));
        }
        let (channel_type, rest) = to.encode();
        self.base.connection.open(channel_type, &rest, &mut self.base.transport, now)
    }

    /// Answers [`ChannelEvent::OpenWanted`].
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel does not await an answer.
    pub fn answer_open(&mut self, id: ChannelId, answer: Result<(), OpenFailure>) -> Result<(), SshError> {
        self.base.connection.answer_open(id, answer, &mut self.base.transport)
    }

    /// Tells the client all host keys, after login (the public notes on the hostkeys extension).
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login.
    pub fn announce_host_keys(&mut self) -> Result<(), SshError> {
        if !self.auth.is_done() {
            return Err(SshError::Misuse("host keys are announced after login"));
        }
        let keys = self.base.transport.host_keys().to_vec();
        self.base.connection.globals.announce_host_keys(&keys, &mut self.base.transport)
    }

    /// Answers a channel request that wants it.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_reply(&mut self, id: ChannelId, granted: bool) -> Result<(), SshError> {
        self.base.connection.reply(id, granted, &mut self.base.transport)
    }

    /// Hands data over for a stream; as for the client.
    ///
    /// # Errors
    /// [`ChannelEnded`], also after [`Self::channel_eof`].
    pub fn channel_send(
        &mut self,
        id: ChannelId,
        stream: Stream,
        data: &mut Bytes,
    ) -> Result<usize, ChannelEnded> {
        self.base.alive().map_err(|_| ChannelEnded)?;
        self.base.connection.send(id, stream, data)
    }

    channel_methods!();

    /// What this connection makes us hold, in bytes, at the worst.
    pub fn held_bytes(&self) -> u64 {
        self.base.held_bytes() as u64
    }

    /// The algorithms in use, once there are keys.
    pub fn algorithms(&self) -> Option<&Algorithms> {
        self.base.transport.algorithms()
    }

    /// Whether strict key exchange is in force.
    pub fn is_strict(&self) -> bool {
        self.base.transport.is_strict()
    }

    /// Counters of the connection.
    pub fn statistics(&self) -> Statistics {
        self.base.transport.statistics(self.base.connection.round_trips.latest())
    }
}

impl Machine for Server {
    machine_methods!();

    fn receive_buffer(&mut self) -> &mut BytesMut {
        &mut self.base.transport.receiver().buffer
    }

    fn wants_input(&self) -> bool {
        self.base.has_room() && !self.auth.is_deciding()
    }

    fn handle_input(&mut self, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        self.work(now).map_err(|error| self.base.fail(error))
    }

    fn poll_timeout(&self) -> Option<Instant> {
        let login = (!self.auth.is_done()).then_some(self.deadline);
        let due = [login, self.base.transport.poll_timeout()].into_iter().flatten().min();
        due.filter(|_| self.base.failure().is_none())
    }

    fn handle_timeout(&mut self, now: Instant) -> Result<(), SshError> {
        self.base.alive()?;
        let outcome = match !self.auth.is_done() && now >= self.deadline {
            true => Err(self.base.transport.took_too_long(self.handshake_time.as_secs())),
            false => self.base.transport.handle_timeout(now),
        };
        outcome.map_err(|error| self.base.fail(error))
    }
}
