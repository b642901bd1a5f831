//! The server role, whole: what the simulated machines and the tests speak through.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use lantern_keys::wire::Writer;
use lantern_keys::{PrivateKey, RandomSource, SignatureAlgorithm};

use crate::auth::server::{AuthAnswer, AuthRequest, ServerAuth};
use crate::channel::{ChannelEvent, ChannelId, Stream};
use crate::connection::Connection;
use crate::limits::DEFAULT_HANDSHAKE_TIME;
use crate::message::connection::{OpenFailure, SessionRequest};
use crate::message::number;
use crate::transport::{RekeyPolicy, Statistics, Transport, TransportConfig, TransportEvent};
use crate::{Algorithms, Machine, Offer, Role, SshError, disconnect};

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
    /// Random bytes.
    pub random: Box<dyn RandomSource>,
}

impl ServerConfig {
    /// The defaults with these host keys.
    pub fn new(host_keys: Vec<Arc<PrivateKey>>, offer: Offer, random: Box<dyn RandomSource>) -> Self {
        let rekey = RekeyPolicy::default();
        Self { offer, host_keys, rekey, handshake_time: DEFAULT_HANDSHAKE_TIME * 4, random }
    }
}

/// What a server hears.
#[derive(Debug)]
pub enum ServerEvent {
    /// A client wants to log in; decide with [`Server::answer_auth`]. Until then nothing goes on.
    Auth(AuthRequest),
    /// Something about a channel.
    Channel(ChannelId, ChannelEvent),
}

/// A connection in the server role.
pub struct Server {
    transport: Transport,
    auth: ServerAuth,
    connection: Connection,
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
        let mut offer = config.offer;
        let has_key = |algorithm: &SignatureAlgorithm| {
            config.host_keys.iter().any(|key| key.signature_algorithms().contains(algorithm))
        };
        offer.host_keys.retain(has_key);
        let transport = Transport::new(TransportConfig {
            role: Role::Server,
            offer,
            guess: None,
            known_host_keys: Vec::new(),
            host_keys: config.host_keys,
            rekey: config.rekey,
            random: config.random,
        })?;
        Ok(Self {
            transport,
            auth: ServerAuth::new(),
            connection: Connection::new(Role::Server),
            events: VecDeque::new(),
            deadline: now + config.handshake_time,
            handshake_time: config.handshake_time,
        })
    }

    /// The next event.
    pub fn poll_event(&mut self) -> Option<ServerEvent> {
        self.events.pop_front().or_else(|| {
            let (id, event) = self.connection.poll_event()?;
            Some(ServerEvent::Channel(id, event))
        })
    }

    /// Decides on [`ServerEvent::Auth`]; input that waited is worked on.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when nothing awaits a decision; else as [`Machine::handle_input`].
    pub fn answer_auth(&mut self, answer: AuthAnswer, now: Instant) -> Result<(), SshError> {
        self.auth.answer(answer, &mut self.transport)?;
        self.transport.authenticated = self.auth.is_done();
        self.handle_input(now)
    }

    /// Shows a text before login (RFC 4252 §5.4).
    ///
    /// # Errors
    /// Only internal ones.
    pub fn banner(&mut self, text: &str) -> Result<(), SshError> {
        self.transport.send(|out| {
            out.put_byte(number::USERAUTH_BANNER);
            out.put_string(text.as_bytes());
            out.put_string(b"");
        })
    }

    fn work(&mut self, now: Instant) -> Result<(), SshError> {
        // While the caller decides, what the client sent ahead has to wait.
        while !self.auth.is_deciding() {
            match self.transport.poll(now)? {
                None => break,
                Some(TransportEvent::Packet(payload)) => self.handle_packet(payload, now)?,
                Some(TransportEvent::HostKey(_) | TransportEvent::NewKeys { .. }) => {}
            }
        }
        self.connection.room_again(&self.transport);
        Ok(())
    }

    fn handle_packet(&mut self, payload: Bytes, now: Instant) -> Result<(), SshError> {
        let (message, reader) = crate::message::open(&payload)?;
        match message {
            number::SERVICE_REQUEST | 50..=79 => {
                if let Some(request) = self.auth.handle(message, reader, &mut self.transport)? {
                    self.events.push_back(ServerEvent::Auth(request));
                }
                Ok(())
            }
            met if !self.auth.is_done() => Err(SshError::Unexpected { expected: "authentication", met }),
            _ => self.connection.handle(payload, &mut self.transport, now),
        }
    }

    /// Asks for new keys now.
    ///
    /// # Errors
    /// [`SshError::Misuse`] while an exchange is going on.
    pub fn rekey(&mut self) -> Result<(), SshError> {
        match self.transport.is_settled() {
            true => self.transport.start_kex(None),
            false => Err(SshError::Misuse("a key exchange is going on")),
        }
    }

    /// Ends the connection with a reason code of [`crate::disconnect`] and a text.
    pub fn disconnect(&mut self, code: u32, text: &str) {
        self.transport.disconnect(code, text);
    }

    /// Tells the client that it failed to log in too often, and ends the connection.
    pub fn disconnect_after_failures(&mut self) {
        self.transport.disconnect(disconnect::NO_MORE_AUTH_METHODS, "too many failures");
    }

    /// Makes a request on a channel, without wanting an answer: exit-status, exit-signal.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_request(&mut self, id: ChannelId, request: &SessionRequest) -> Result<(), SshError> {
        self.connection.request(id, request, false, &mut self.transport)
    }

    /// Opens a channel to the agent that the client forwards.
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login or with too many channels.
    pub fn open_agent_channel(&mut self, now: Instant) -> Result<ChannelId, SshError> {
        if !self.auth.is_done() {
            return Err(SshError::Misuse("channels open after login"));
        }
        self.connection.open(crate::agent::CHANNEL_TYPE.as_bytes(), b"", &mut self.transport, now)
    }

    /// Answers [`ChannelEvent::OpenWanted`].
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel does not await an answer.
    pub fn answer_open(&mut self, id: ChannelId, answer: Result<(), OpenFailure>) -> Result<(), SshError> {
        self.connection.answer_open(id, answer, &mut self.transport)
    }

    /// Tells the client all host keys, after login (the public notes on the hostkeys extension).
    ///
    /// # Errors
    /// [`SshError::Misuse`] before login.
    pub fn announce_host_keys(&mut self) -> Result<(), SshError> {
        if !self.auth.is_done() {
            return Err(SshError::Misuse("host keys are announced after login"));
        }
        let keys = self.transport.host_keys().to_vec();
        self.connection.globals.announce_host_keys(&keys, &mut self.transport)
    }

    /// Answers a channel request that wants it.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_reply(&mut self, id: ChannelId, granted: bool) -> Result<(), SshError> {
        self.connection.reply(id, granted, &mut self.transport)
    }

    /// Sends data on a stream; as for the client.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open for sending.
    pub fn channel_send(
        &mut self,
        id: ChannelId,
        stream: Stream,
        data: &[u8],
        now: Instant,
    ) -> Result<usize, SshError> {
        let taken = self.connection.send(id, stream, data, &mut self.transport)?;
        self.transport.rekey_if_due(now)?;
        Ok(taken)
    }

    /// Says that no more data follows.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_eof(&mut self, id: ChannelId) -> Result<(), SshError> {
        self.connection.eof(id, &mut self.transport)
    }

    /// Closes a channel.
    ///
    /// # Errors
    /// [`SshError::Misuse`] when the channel is not open.
    pub fn channel_close(&mut self, id: ChannelId) -> Result<(), SshError> {
        self.connection.close(id, &mut self.transport)
    }

    /// Notes that received data has been used.
    ///
    /// # Errors
    /// Only internal ones.
    pub fn channel_consumed(&mut self, id: ChannelId, bytes: usize, now: Instant) -> Result<(), SshError> {
        self.connection.consumed(id, bytes, &mut self.transport, now)
    }

    /// The algorithms in use, once there are keys.
    pub fn algorithms(&self) -> Option<&Algorithms> {
        self.transport.algorithms()
    }

    /// Whether strict key exchange is in force.
    pub fn is_strict(&self) -> bool {
        self.transport.is_strict()
    }

    /// Counters of the connection.
    pub fn statistics(&self) -> Statistics {
        self.transport.statistics(self.connection.round_trips.latest())
    }
}

impl Machine for Server {
    fn receive_buffer(&mut self) -> &mut BytesMut {
        &mut self.transport.receiver().buffer
    }

    fn wants_input(&self) -> bool {
        !self.auth.is_deciding()
    }

    fn handle_input(&mut self, now: Instant) -> Result<(), SshError> {
        self.work(now).inspect_err(|error| self.transport.say_goodbye(error))
    }

    fn handle_end(&mut self) -> SshError {
        self.transport.end()
    }

    fn poll_timeout(&self) -> Option<Instant> {
        let login = (!self.auth.is_done()).then_some(self.deadline);
        [login, self.transport.rekey_deadline()].into_iter().flatten().min()
    }

    fn handle_timeout(&mut self, now: Instant) -> Result<(), SshError> {
        if !self.auth.is_done() && now >= self.deadline {
            let seconds = self.handshake_time.as_secs();
            let error = SshError::TimedOut { seconds, during: self.transport.stage() };
            self.transport.say_goodbye(&error);
            return Err(error);
        }
        self.transport.rekey_if_due(now)
    }

    fn pending(&self) -> &[u8] {
        self.transport.pending()
    }

    fn sent(&mut self, len: usize) {
        self.transport.sender().sent(len);
        self.connection.room_again(&self.transport);
    }
}
