//! A client and a server joined by a line with latency, in memory and in virtual time.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]
// Virtual time starts at some instant; it is only ever moved on by hand.
#![allow(clippy::disallowed_methods)]

use std::collections::VecDeque;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_keys::wire::Writer;
use lantern_keys::{Curve, KeyAlgorithm, PrivateKey, RandomSource, RsaBits};
use lantern_ssh::{
    AuthAnswer, AuthMethod, ChannelEvent, ChannelId, Client, ClientConfig, ClientEvent, GlobalEvent, Machine,
    Offer, Server, ServerConfig, ServerEvent, SshError, Stream,
};

/// A fixed sequence of bytes: tests must not depend on chance.
pub struct Seeded(pub u64);

impl RandomSource for Seeded {
    fn fill(&mut self, out: &mut [u8]) {
        for byte in out {
            // SplitMix64, one byte a step.
            self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            *byte = (mixed >> 56) as u8;
        }
    }
}

/// One key of every host key algorithm.
pub fn host_keys() -> Vec<Arc<PrivateKey>> {
    static KEYS: OnceLock<Vec<Arc<PrivateKey>>> = OnceLock::new();
    KEYS.get_or_init(|| {
        [
            KeyAlgorithm::Ed25519,
            KeyAlgorithm::Ecdsa(Curve::P256),
            KeyAlgorithm::Ecdsa(Curve::P384),
            KeyAlgorithm::Ecdsa(Curve::P521),
            KeyAlgorithm::Rsa(RsaBits::B2048),
        ]
        .map(|algorithm| Arc::new(PrivateKey::generate(algorithm, "lamp-01").unwrap()))
        .to_vec()
    })
    .clone()
}

pub fn client_config(offer: Offer) -> ClientConfig {
    let mut config = ClientConfig::new("keeper".into(), offer, Box::new(Seeded(1)));
    config.known_host_keys = host_keys().iter().map(|key| key.public().clone()).collect();
    config
}

pub fn server_config(offer: Offer) -> ServerConfig {
    ServerConfig::new(host_keys(), offer, Box::new(Seeded(2)))
}

/// Bytes under way: when they arrive, and which.
type Wire = VecDeque<(Instant, Vec<u8>)>;

pub type Tamper = Box<dyn FnMut(&mut Vec<u8>)>;

pub struct Pair {
    pub client: Client,
    pub server: Server,
    pub now: Instant,
    pub start: Instant,
    /// One way.
    pub latency: Duration,
    /// Cuts what is sent into pieces of lengths from here, in turn; empty: as it comes.
    pub fragments: Vec<usize>,
    fragment: usize,
    to_server: Wire,
    to_client: Wire,
    pub client_events: VecDeque<ClientEvent>,
    pub server_events: VecDeque<ServerEvent>,
    /// What has come in on channels, taken out and not consumed.
    pub client_data: VecDeque<(ChannelId, Stream, Bytes)>,
    pub server_data: VecDeque<(ChannelId, Stream, Bytes)>,
    /// Data stays where it is: the test takes it.
    pub leave_data: bool,
    pub client_error: Option<SshError>,
    pub server_error: Option<SshError>,
    /// Lets a test spoil what is under way to the client.
    pub tamper: Option<Tamper>,
}

impl Pair {
    pub fn new(client: ClientConfig, server: ServerConfig) -> Self {
        let now = Instant::now();
        Self {
            client: Client::new(client, now).unwrap(),
            server: Server::new(server, now).unwrap(),
            now,
            start: now,
            latency: Duration::from_millis(50),
            fragments: Vec::new(),
            fragment: 0,
            to_server: Wire::new(),
            to_client: Wire::new(),
            client_events: VecDeque::new(),
            server_events: VecDeque::new(),
            client_data: VecDeque::new(),
            server_data: VecDeque::new(),
            leave_data: false,
            client_error: None,
            server_error: None,
            tamper: None,
        }
    }

    pub fn with_offer(offer: Offer) -> Self {
        Self::new(client_config(offer.clone()), server_config(offer))
    }

    fn send_all(&mut self) {
        let arrival = self.now + self.latency;
        let mut pieces = |pending: &[u8], wire: &mut Wire| {
            let mut rest = pending;
            while !rest.is_empty() {
                let len = match self.fragments.len() {
                    0 => rest.len(),
                    count => {
                        self.fragment += 1;
                        self.fragments[self.fragment % count].clamp(1, rest.len())
                    }
                };
                wire.push_back((arrival, rest[..len].to_vec()));
                rest = &rest[len..];
            }
            pending.len()
        };
        // As long as packets can be made: the line takes everything.
        loop {
            let sent = pieces(self.client.poll_transmit(self.now), &mut self.to_server);
            let replied = pieces(self.server.poll_transmit(self.now), &mut self.to_client);
            self.client.sent(sent);
            self.server.sent(replied);
            if sent + replied == 0 {
                break;
            }
        }
    }

    fn collect(&mut self) {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Channel(id, ChannelEvent::Readable(stream)) if !self.leave_data => {
                    while let Some(data) = self.client.channel_take(id, stream) {
                        self.client_data.push_back((id, stream, data));
                    }
                }
                event => self.client_events.push_back(event),
            }
        }
        while let Some(event) = self.server.poll_event() {
            match event {
                ServerEvent::Channel(id, ChannelEvent::Readable(stream)) if !self.leave_data => {
                    while let Some(data) = self.server.channel_take(id, stream) {
                        self.server_data.push_back((id, stream, data));
                    }
                }
                event => self.server_events.push_back(event),
            }
        }
    }

    /// Moves on to the next thing that happens: an arrival or a deadline. False when nothing will.
    pub fn step(&mut self) -> bool {
        self.send_all();
        self.collect();
        let news = [
            self.client_events.len(),
            self.server_events.len(),
            self.client_data.len(),
            self.server_data.len(),
        ];
        if news != [0; 4] {
            return true;
        }
        let arrivals = [self.to_server.front(), self.to_client.front()].map(|front| front.map(|(at, _)| *at));
        let deadlines = [self.client.poll_timeout(), self.server.poll_timeout()];
        // Deadlines an hour ahead are for tests that wait for them on purpose.
        let soon = self.now + Duration::from_secs(600);
        let next = arrivals.into_iter().chain(deadlines).flatten().filter(|at| *at < soon).min();
        let Some(next) = next else { return false };
        self.advance_to(next.max(self.now));
        self.client_error.is_none() && self.server_error.is_none()
    }

    pub fn advance_to(&mut self, now: Instant) {
        self.now = now;
        while self.to_server.front().is_some_and(|(at, _)| *at <= now) {
            let (_, bytes) = self.to_server.pop_front().unwrap();
            self.server.receive_buffer().extend_from_slice(&bytes);
            if let Err(error) = self.server.handle_input(now) {
                self.server_error.get_or_insert(error);
            }
        }
        while self.to_client.front().is_some_and(|(at, _)| *at <= now) {
            let (_, mut bytes) = self.to_client.pop_front().unwrap();
            if let Some(tamper) = &mut self.tamper {
                tamper(&mut bytes);
                if bytes.is_empty() {
                    continue;
                }
            }
            self.client.receive_buffer().extend_from_slice(&bytes);
            if let Err(error) = self.client.handle_input(now) {
                self.client_error.get_or_insert(error);
            }
        }
        if self.client_error.is_none() && self.server_error.is_none() {
            if let Err(error) = self.client.handle_timeout(now) {
                self.client_error.get_or_insert(error);
            }
            if let Err(error) = self.server.handle_timeout(now) {
                self.server_error.get_or_insert(error);
            }
        }
        self.collect();
    }

    /// Runs until the client hears something that `found` wants; other events are dropped. Logins are accepted.
    pub fn until<T>(&mut self, mut found: impl FnMut(ClientEvent) -> Option<T>) -> Option<T> {
        loop {
            while let Some(event) = self.client_events.pop_front() {
                if let Some(found) = found(event) {
                    return Some(found);
                }
            }
            self.client_data.clear();
            if !self.serve_and_step() {
                return None;
            }
        }
    }

    /// Runs until the client hears data that `found` wants; events and other data are dropped.
    pub fn until_data<T>(
        &mut self,
        mut found: impl FnMut(ChannelId, Stream, Bytes) -> Option<T>,
    ) -> Option<T> {
        loop {
            while let Some((id, stream, data)) = self.client_data.pop_front() {
                if let Some(found) = found(id, stream, data) {
                    return Some(found);
                }
            }
            self.client_events.clear();
            if !self.serve_and_step() {
                return None;
            }
        }
    }

    fn serve_and_step(&mut self) -> bool {
        while let Some(event) = self.server_events.pop_front() {
            self.serve(event);
        }
        while let Some((id, _, mut data)) = self.server_data.pop_front() {
            let len = data.len();
            let taken = self.server.channel_send(id, Stream::Main, &mut data).unwrap();
            assert_eq!(taken, len, "tests that fill the buffers serve by themselves");
            self.server.channel_consumed(id, len, self.now);
        }
        self.step()
    }

    /// Hands data over to a channel of the client's; how much was taken.
    pub fn send(&mut self, id: ChannelId, data: &[u8]) -> usize {
        self.client.channel_send(id, &mut Bytes::copy_from_slice(data)).unwrap()
    }

    /// What the server of most tests does: accepts any verified key, and echoes.
    pub fn serve(&mut self, event: ServerEvent) {
        let now = self.now;
        match event {
            ServerEvent::Auth(request) => {
                let answer = match request.method {
                    AuthMethod::PublicKey(_) => AuthAnswer::Accept,
                    AuthMethod::QueryPublicKey(_) => AuthAnswer::PublicKeyOk,
                    _ => AuthAnswer::Reject { methods: vec!["publickey".into()], partial_success: false },
                };
                self.server.answer_auth(answer, now).unwrap();
            }
            ServerEvent::Channel(id, ChannelEvent::Request { want_reply: true, .. }) => {
                self.server.channel_reply(id, true).unwrap();
            }
            ServerEvent::Channel(id, ChannelEvent::Eof) => self.server.channel_close(id),
            ServerEvent::Channel(id, ChannelEvent::Closed) => self.server.channel_release(id),
            ServerEvent::Global(GlobalEvent::ListenWanted(ticket, _)) => {
                self.server.answer_listen(ticket, None).unwrap();
            }
            ServerEvent::Channel(..) | ServerEvent::Global(_) => {}
        }
    }

    /// Logs in with a key and opens a session.
    pub fn log_in(&mut self) -> ChannelId {
        use lantern_ssh::{Attempt, AuthEvent};
        self.client.authenticate(Attempt::PublicKey(host_keys()[0].clone()), self.now).unwrap();
        let done = self.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(()));
        assert!(done.is_some(), "login failed: {:?} {:?}", self.client_error, self.server_error);
        let id = self.client.open_session(self.now).unwrap();
        self.until(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::Opened)).then_some(()))
            .unwrap();
        id
    }
}

/// A pair that is logged in, with a session.
pub fn logged_in() -> (Pair, ChannelId) {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.latency = Duration::from_millis(1);
    let id = pair.log_in();
    (pair, id)
}

/// A message of any number.
pub fn payload(number: u8, write: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut out = vec![number];
    write(&mut out);
    out
}

/// A message about the first channel.
pub fn on_channel(number: u8, write: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    payload(number, |out| {
        out.put_uint32(0);
        write(out);
    })
}

/// Data on the first channel.
pub fn data(len: usize) -> Vec<u8> {
    on_channel(94, |out| out.put_string(&vec![7; len]))
}
