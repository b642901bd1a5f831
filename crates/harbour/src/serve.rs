//! Listening, logging in, and the loop of one connection.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_keys::{RandomSource, SecretString, SystemRandom};
use lantern_link::{Line, Pump, PumpError};
use lantern_ssh::{
    ChannelEvent, ChannelId, GlobalEvent, ListenAt, OpenFailure, PeerChannel, Prompts, Server, ServerConfig,
    ServerEvent, SessionRequest, Stream,
};
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::task::JoinHandle;
use tokio::time::{sleep_until, timeout};
use tracing::debug;

use crate::fault::{Fault, FaultyStream};
use crate::forwarding::{Forwards, InnerNetwork, News};
use crate::holdings::Holdings;
use crate::lit::LitMachine;
use crate::session::Session;
use crate::{MachineSpec, UserSpec};

/// Bytes that the kernel may hold before they are sent.
const NOT_SENT_LOW_WATER: u32 = 32 * 1024;

/// Lit machines; they go dark when this is dropped.
#[derive(Debug)]
pub struct Harbour {
    machines: Vec<LitMachine>,
    tasks: Vec<JoinHandle<()>>,
    kept: Vec<Filtered>,
}

/// A listener whose queue is full and never emptied: the kernel drops whatever else knocks.
#[derive(Debug)]
struct Filtered {
    _listener: TcpListener,
    _knocking: Vec<TcpStream>,
}

/// Most visitors that wait to be let in.
const MAX_WAITING: u32 = 1024;

fn listen(address: SocketAddr, queue: u32) -> std::io::Result<TcpListener> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    // A machine that is lit again at the same port does not wait for what its last visitors left.
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    socket.listen(queue)
}

impl Filtered {
    /// `listener` has a queue of length 0.
    async fn new(listener: TcpListener) -> std::io::Result<Self> {
        let address = listener.local_addr()?;
        let mut knocking = Vec::new();
        // A queue of length 0 holds one; more than that is knocked with, until one is not let in.
        for _ in 0..4 {
            match timeout(Duration::from_millis(200), TcpStream::connect(address)).await {
                Ok(Ok(stream)) => knocking.push(stream),
                _ => break,
            }
        }
        Ok(Self { _listener: listener, _knocking: knocking })
    }
}

impl Harbour {
    /// Opens all machines. Must be called within a runtime.
    ///
    /// # Errors
    /// When an address or a port cannot be had.
    pub async fn light(specs: Vec<MachineSpec>) -> std::io::Result<Self> {
        let mut harbour = Self { machines: Vec::new(), tasks: Vec::new(), kept: Vec::new() };
        let mut listeners = Vec::new();
        let mut network = HashMap::new();
        for spec in specs {
            // From the beginning: a port that is given back meanwhile may be somebody else's.
            let queue = if spec.fault == Some(Fault::Filtered) { 0 } else { MAX_WAITING };
            let listener = listen((spec.address, spec.port).into(), queue)?;
            let address = listener.local_addr()?;
            let spec = Arc::new(spec);
            if let Some(inner) = &spec.inner_address {
                network.insert((inner.clone(), lantern_book::DEFAULT_SSH_PORT), address);
            }
            let holdings = Holdings::new(&spec);
            harbour.machines.push(LitMachine { spec: spec.clone(), address, holdings: holdings.clone() });
            listeners.push((spec, holdings, listener));
        }
        let network = Arc::new(network);
        for (spec, holdings, listener) in listeners {
            match spec.fault {
                Some(Fault::Closed) => continue,
                Some(Fault::Filtered) => {
                    harbour.kept.push(Filtered::new(listener).await?);
                    continue;
                }
                _ => {}
            }
            let network = network.clone();
            harbour.tasks.push(tokio::spawn(async move {
                while let Ok((stream, peer)) = listener.accept().await {
                    debug!(machine = spec.name, %peer, "visitor");
                    tokio::spawn(serve(spec.clone(), holdings.clone(), network.clone(), stream));
                }
            }));
        }
        Ok(harbour)
    }

    /// The machines.
    pub fn machines(&self) -> &[LitMachine] {
        &self.machines
    }

    /// The machine with this name.
    pub fn machine(&self, name: &str) -> Option<&LitMachine> {
        self.machines.iter().find(|machine| machine.spec.name == name)
    }
}

impl Drop for Harbour {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

async fn serve(spec: Arc<MachineSpec>, holdings: Holdings, network: InnerNetwork, mut stream: TcpStream) {
    let _ = stream.set_nodelay(true);
    // As a good server does it: what waits in the kernel can't be overtaken.
    let _ = socket2::SockRef::from(&stream).set_tcp_notsent_lowat(NOT_SENT_LOW_WATER);
    match spec.fault {
        Some(Fault::OtherService(text)) => {
            let _ = stream.write_all(text.as_bytes()).await;
            let _ = stream.shutdown().await;
            return;
        }
        Some(Fault::Silent) => return std::future::pending().await,
        _ => {}
    }
    let longest = match spec.fault {
        Some(Fault::HangUpAfter(time)) => time,
        _ => Duration::from_secs(365 * 24 * 3600),
    };
    let stream = FaultyStream::new(stream, spec.fault.clone());
    match timeout(longest, Visit::new(spec.clone(), holdings, network, stream).run()).await {
        Ok(Err(error)) => debug!(machine = spec.name, %error, "visit over"),
        Ok(Ok(())) | Err(_) => debug!(machine = spec.name, "visit ended"),
    }
}

/// One connection to a simulated machine.
pub(crate) struct Visit {
    pub(crate) spec: Arc<MachineSpec>,
    pub(crate) holdings: Holdings,
    pump: Pump<FaultyStream>,
    pub(crate) user: Option<UserSpec>,
    /// Methods passed so far.
    pub(crate) passed: Vec<&'static str>,
    /// Keyboard-interactive answers that are still to be asked for.
    pub(crate) rounds: Vec<(Prompts, SecretString)>,
    pub(crate) expected: Option<SecretString>,
    pub(crate) greeted: bool,
    sessions: HashMap<ChannelId, Session>,
    forwards: Forwards,
    /// What came for channels and has not all gone into them.
    unsent: HashMap<ChannelId, Bytes>,
    /// Callers whose channels are not open yet.
    callers: HashMap<ChannelId, Line>,
}

impl Visit {
    fn new(spec: Arc<MachineSpec>, holdings: Holdings, network: InnerNetwork, stream: FaultyStream) -> Self {
        let forwards = Forwards::new(network, spec.clone());
        Self {
            spec,
            holdings,
            pump: Pump::new(stream),
            user: None,
            passed: Vec::new(),
            rounds: Vec::new(),
            expected: None,
            greeted: false,
            sessions: HashMap::new(),
            forwards,
            unsent: HashMap::new(),
            callers: HashMap::new(),
        }
    }

    async fn run(mut self) -> Result<(), PumpError> {
        let mut config =
            ServerConfig::new(self.spec.host_keys.clone(), self.spec.offer.clone(), Box::new(SystemRandom));
        config.rekey = self.spec.rekey;
        if self.spec.numbers_anew {
            // A random number, as some servers take one.
            let mut bytes = [0; 4];
            SystemRandom.fill(&mut bytes);
            config.first_channel = u32::from_be_bytes(bytes) >> 1;
        }
        let mut server = Server::new(config, Instant::now())?;
        let outcome = self.serve(&mut server).await;
        // What was said before the end is heard.
        self.pump.say_goodbye(&mut server).await;
        outcome
    }

    async fn serve(&mut self, server: &mut Server) -> Result<(), PumpError> {
        loop {
            while let Some(event) = server.poll_event() {
                match event {
                    ServerEvent::Auth(request) => self.log_in(request, server)?,
                    ServerEvent::Channel(id, event) => self.handle_channel(id, event, server)?,
                    ServerEvent::Global(GlobalEvent::ListenWanted(ticket, at)) => {
                        self.forwards.listen(ticket, at)
                    }
                    ServerEvent::Global(GlobalEvent::StopListening(at)) => self.forwards.stop_listening(&at),
                    ServerEvent::Global(_) => {}
                }
            }
            let now = Instant::now();
            for session in self.sessions.values_mut() {
                session.work(server, now)?;
                for line in session.take_dials() {
                    let display = PeerChannel::Display { originator: ("127.0.0.1".into(), 0) };
                    if let Ok(id) = server.open_channel(&display, now) {
                        self.callers.insert(id, line);
                    }
                }
            }
            let wake = self.sessions.values().filter_map(|session| session.wake).min();
            tokio::select! {
                outcome = self.pump.turn(server) => outcome?,
                () = sleep_until(wake.unwrap_or(now).into()), if wake.is_some() => {}
                Some(news) = self.forwards.news.recv() => self.forward(news, server)?,
            }
        }
    }

    /// What has happened to what is forwarded.
    fn forward(&mut self, news: News, server: &mut Server) -> Result<(), PumpError> {
        match news {
            News::Opened(id, Ok(line)) => {
                // Closed by the client meanwhile, it needs no answer.
                if server.answer_open(id, Ok(())).is_ok() {
                    self.forwards.join(id, line);
                }
            }
            News::Opened(id, Err(failure)) => drop(server.answer_open(id, Err(failure))),
            News::Data(id, piece) => {
                self.unsent.insert(id, piece);
                self.send_on(id, server);
            }
            News::Ended(id, true) => {
                server.channel_eof(id);
                if self.forwards.ended(id) {
                    server.channel_close(id);
                }
            }
            News::Ended(id, false) => self.release(id, server),
            News::Taken(id, len) => server.channel_consumed(id, len, Instant::now()),
            News::Listens(ticket, at, Some((port, listener))) => {
                let at = match at {
                    ListenAt::Tcp { address, .. } => ListenAt::Tcp { address, port },
                    other => other,
                };
                self.forwards.listens(at, listener);
                server.answer_listen(ticket, Some(port))?;
            }
            News::Listens(ticket, _, None) => server.answer_listen(ticket, None)?,
            News::Caller(from, stream) => {
                if let Ok(id) = server.open_channel(&PeerChannel::Forwarded(from), Instant::now()) {
                    self.callers.insert(id, Box::new(stream));
                }
            }
        }
        Ok(())
    }

    /// A piece that waits goes into its channel, as far as there is room.
    fn send_on(&mut self, id: ChannelId, server: &mut Server) {
        let Some(piece) = self.unsent.get_mut(&id) else { return };
        // A channel that the client closed meanwhile takes nothing any more.
        if server.channel_send(id, Stream::Main, piece).is_err() {
            piece.clear();
        }
        if piece.is_empty() {
            self.unsent.remove(&id);
            self.forwards.go_on(id);
        }
    }

    fn release(&mut self, id: ChannelId, server: &mut Server) {
        self.forwards.forget(id);
        self.callers.remove(&id);
        self.unsent.remove(&id);
        server.channel_release(id);
    }

    fn handle_channel(
        &mut self,
        id: ChannelId,
        event: ChannelEvent,
        server: &mut Server,
    ) -> Result<(), PumpError> {
        if event == ChannelEvent::Opened
            && let Some(line) = self.callers.remove(&id)
        {
            self.forwards.join(id, line);
            return Ok(());
        }
        if event == ChannelEvent::Opened {
            let user = self.user.as_ref().map(|user| user.name.as_str()).unwrap_or_default();
            self.sessions.insert(id, Session::new(id, user, &self.spec, &self.holdings));
            return Ok(());
        }
        if let ChannelEvent::OpenWanted(PeerChannel::Direct(to)) = &event {
            self.forwards.open(id, to);
            return Ok(());
        }
        if let ChannelEvent::OpenWanted(_) = &event {
            let failure =
                OpenFailure { code: OpenFailure::UNKNOWN_TYPE, description: "no such thing here".into() };
            return Ok(server.answer_open(id, Err(failure))?);
        }
        let Some(session) = self.sessions.get_mut(&id) else {
            match event {
                ChannelEvent::Readable(stream) => {
                    while let Some(data) = server.channel_take(id, stream) {
                        self.forwards.data(id, data);
                    }
                }
                ChannelEvent::Writable => self.send_on(id, server),
                ChannelEvent::Eof if self.forwards.end_of_data(id) => server.channel_close(id),
                ChannelEvent::Closed | ChannelEvent::OpenFailed(_) => self.release(id, server),
                _ => {}
            }
            return Ok(());
        };
        match event {
            ChannelEvent::Request { request, want_reply } => {
                let is_subsystem = matches!(request, SessionRequest::Subsystem(_));
                let granted = session.request(request, Instant::now());
                if want_reply {
                    server.channel_reply(id, granted)?;
                }
                if granted && is_subsystem {
                    // Large files may come: their windows grow by what a round trip takes.
                    server.ask_for_life(Instant::now())?;
                }
            }
            ChannelEvent::Readable(stream) => {
                while let Some(data) = server.channel_take(id, stream) {
                    session.input(&data);
                }
            }
            ChannelEvent::Eof => session.end_of_input(),
            ChannelEvent::Closed => {
                self.sessions.remove(&id);
                server.channel_release(id);
            }
            _ => {}
        }
        Ok(())
    }
}
