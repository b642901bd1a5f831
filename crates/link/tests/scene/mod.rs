//! A machine at the other end of a line in memory: our server role, driven by a script.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]

mod polls;

use std::collections::{HashMap, HashSet, VecDeque};
use std::future::Future;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bytes::Bytes;
use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing, TrustStore, Verified};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom};
use lantern_link::{ConnectRequest, Nobody, Pump, Trunk, connect_over};
use lantern_ssh::{
    AuthAnswer, AuthMethod, ChannelEvent, ChannelId, Forwarded, GlobalEvent, ListenAt, Offer, OpenFailure,
    PeerChannel, Server, ServerConfig, ServerEvent, SessionRequest, Stream,
};
use tokio::io::{DuplexStream, duplex};
use tokio::sync::mpsc;

#[allow(unused_imports)] // Each test file uses its part of this.
pub use polls::poll_times;

/// What a test has the machine do beside what it always does.
pub enum Do {
    /// Send a payload as it is.
    Say(Vec<u8>),
    /// Open a channel to something of the client's; what becomes of it is in [`Heard`].
    Open(PeerChannel),
    /// Send on the channel that was opened last.
    Send(Bytes),
    /// Close the channel that was opened last, and forget it.
    HangUp,
    /// Take no data off channels that the machine opened, from now on.
    TakeNothing,
    /// Refuse requests of this name from now on.
    Refuse(&'static str),
    /// Answer nothing from now on.
    FallSilent,
    /// Ask for new keys.
    Renew,
    /// Listen wherever it is asked to from now on.
    Listen,
    /// Say that no more follows on the channel that was opened last.
    End,
    /// Close the channel that was opened last, and say nothing before.
    BreakOff,
}

/// What the machine heard.
#[derive(Debug, Default)]
pub struct Heard {
    pub channels: usize,
    pub requests: Vec<String>,
    pub data: Vec<u8>,
    pub opened: Vec<Result<(), OpenFailure>>,
    /// Where it listens.
    pub listening: Vec<ListenAt>,
    /// Channels that the client has ended or closed, of those that the machine opened.
    pub ended: usize,
    pub closed: usize,
    /// How the connection ended.
    pub end: Option<String>,
}

pub struct Scene {
    pub folder: tempfile::TempDir,
    pub request: ConnectRequest,
    host_key: Arc<PrivateKey>,
}

pub struct Machine {
    pub tell: mpsc::UnboundedSender<Do>,
    pub heard: Arc<Mutex<Heard>>,
}

impl Scene {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper").unwrap();
        let host_key = Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, "lamp-01").unwrap());
        KeyRing::new(&home)
            .add("harbour", &key, Protect::default(), KeyNote::default(), &mut SystemRandom)
            .unwrap();
        let request = ConnectRequest::new(&home, "lamp-01", "192.0.2.7", 22, "keeper");
        let now = Timestamp::now();
        TrustStore::accept(&home, "lamp-01", &request.place(), host_key.public(), Verified::Expected, now)
            .unwrap();
        Self { folder, request, host_key }
    }

    /// A machine, and the line to it. It lets every key in, grants every request, and echoes.
    pub fn machine(&self) -> (Machine, DuplexStream) {
        let (near, far) = duplex(64 * 1024);
        let (tell, orders) = mpsc::unbounded_channel();
        let heard = Arc::new(Mutex::new(Heard::default()));
        let mut config =
            ServerConfig::new(vec![self.host_key.clone()], Offer::new(true), Box::new(SystemRandom));
        config.rekey.bytes = 1 << 20;
        tokio::spawn(serve(config, far, orders, heard.clone()));
        (Machine { tell, heard }, near)
    }

    pub async fn connect(&self) -> (Machine, Trunk) {
        let (machine, line) = self.machine();
        let trunk = connect_over(&self.request, Box::new(line), "a line in memory", &Nobody).await.unwrap();
        (machine, trunk)
    }
}

impl Machine {
    pub fn tell(&self, what: Do) {
        let _ = self.tell.send(what);
    }

    /// Waits until the machine has heard what is wanted.
    #[track_caller]
    pub fn until<T>(&self, found: impl Fn(&Heard) -> Option<T>) -> impl Future<Output = T> {
        let heard = self.heard.clone();
        async move {
            let deadline = Instant::now() + Duration::from_secs(20);
            loop {
                if let Some(found) = found(&heard.lock().unwrap()) {
                    return found;
                }
                assert!(Instant::now() < deadline, "the machine only heard {:?}", heard.lock().unwrap());
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
        }
    }
}

async fn serve(
    config: ServerConfig,
    line: DuplexStream,
    mut orders: mpsc::UnboundedReceiver<Do>,
    heard: Arc<Mutex<Heard>>,
) {
    let mut server = Server::new(config, Instant::now()).unwrap();
    let mut pump = Pump::new(line);
    let (mut silent, mut latest) = (false, None);
    let mut machine = Script {
        heard: heard.clone(),
        ours: HashSet::new(),
        refused: HashSet::new(),
        echoes: HashMap::new(),
        takes_nothing: false,
        listens: false,
    };
    loop {
        while let Some(event) = server.poll_event() {
            if silent {
                continue;
            }
            match event {
                ServerEvent::Auth(request) => {
                    let answer = match request.method {
                        AuthMethod::PublicKey(_) => AuthAnswer::Accept,
                        _ => AuthAnswer::Reject { methods: vec!["publickey".into()], partial_success: false },
                    };
                    let _ = server.answer_auth(answer, Instant::now());
                }
                ServerEvent::Channel(id, event) => machine.handle(&mut server, id, event),
                ServerEvent::Global(event) => machine.handle_global(&mut server, event),
            }
        }
        let turn = tokio::select! {
            // What it is told holds for all that comes after.
            biased;
            order = orders.recv() => {
                match order {
                    Some(Do::Say(payload)) => drop(server.send_anything(&payload)),
                    Some(Do::Open(kind)) => {
                        latest = server.open_channel(&kind, Instant::now()).ok();
                        machine.ours.extend(latest);
                    }
                    Some(Do::Send(mut data)) => {
                        let _ = latest.map(|id| server.channel_send(id, Stream::Main, &mut data));
                    }
                    Some(Do::HangUp) => drop(latest.map(|id| server.channel_release(id))),
                    Some(Do::TakeNothing) => machine.takes_nothing = true,
                    Some(Do::Refuse(name)) => drop(machine.refused.insert(name)),
                    Some(Do::FallSilent) => silent = true,
                    Some(Do::Renew) => drop(server.rekey(Instant::now())),
                    Some(Do::Listen) => machine.listens = true,
                    Some(Do::End) => drop(latest.map(|id| server.channel_eof(id))),
                    Some(Do::BreakOff) => drop(latest.map(|id| server.channel_close(id))),
                    None => std::future::pending().await,
                }
                Ok(())
            }
            turn = pump.turn(&mut server) => turn,
        };
        if let Err(error) = turn {
            heard.lock().unwrap().end = Some(error.to_string());
            return;
        }
    }
}

struct Script {
    heard: Arc<Mutex<Heard>>,
    /// Channels that the machine opened.
    ours: HashSet<ChannelId>,
    /// Names of requests that are refused.
    refused: HashSet<&'static str>,
    takes_nothing: bool,
    listens: bool,
    /// What is to be sent back and had no room yet, and whether an end follows.
    echoes: HashMap<ChannelId, (VecDeque<Bytes>, bool)>,
}

impl Script {
    fn handle_global(&mut self, server: &mut Server, event: GlobalEvent) {
        let mut heard = self.heard.lock().unwrap();
        match event {
            GlobalEvent::ListenWanted(ticket, _) if !self.listens => {
                server.answer_listen(ticket, None).unwrap();
            }
            GlobalEvent::ListenWanted(ticket, at) => {
                let (at, port) = match at {
                    ListenAt::Tcp { address, port: 0 } => (ListenAt::Tcp { address, port: 4711 }, 4711),
                    at => (at, 0),
                };
                server.answer_listen(ticket, Some(port)).unwrap();
                if let ListenAt::Tcp { address, port } = &at {
                    // A caller that is as quick as the answer.
                    let (address, port) = (address.clone(), *port);
                    let originator = ("192.0.2.9".to_owned(), 1);
                    let from = PeerChannel::Forwarded(Forwarded { address, port, originator });
                    self.ours.extend(server.open_channel(&from, Instant::now()).ok());
                }
                heard.listening.push(at);
            }
            GlobalEvent::StopListening(at) => heard.listening.retain(|other| *other != at),
            _ => {}
        }
    }

    fn echo(&mut self, server: &mut Server, id: ChannelId) {
        let Some((pieces, ends)) = self.echoes.get_mut(&id) else { return };
        while let Some(piece) = pieces.front_mut() {
            let taken = server.channel_send(id, Stream::Main, piece).unwrap_or(piece.len());
            server.channel_consumed(id, taken, Instant::now());
            if !piece.is_empty() {
                return;
            }
            pieces.pop_front();
        }
        if *ends {
            server.channel_eof(id);
            server.channel_close(id);
        }
    }

    fn handle(&mut self, server: &mut Server, id: ChannelId, event: ChannelEvent) {
        let heard = self.heard.clone();
        let mut heard = heard.lock().unwrap();
        match event {
            ChannelEvent::Opened if self.ours.contains(&id) => heard.opened.push(Ok(())),
            ChannelEvent::OpenFailed(failure) => heard.opened.push(Err(failure)),
            ChannelEvent::Opened => heard.channels += 1,
            ChannelEvent::OpenWanted(_) => {
                heard.channels += 1;
                let _ = server.answer_open(id, Ok(()));
            }
            ChannelEvent::Request { request, want_reply } => {
                heard.requests.push(request.name().to_owned());
                let is_mute =
                    matches!(&request, SessionRequest::Exec(words) if words == b"slam" || words == b"mute");
                if want_reply && !is_mute {
                    // Commands say what is to become of them.
                    let refused =
                        matches!(&request, SessionRequest::Exec(words) if words.starts_with(b"refuse"));
                    let granted = !refused && !self.refused.contains(request.name());
                    let _ = server.channel_reply(id, granted);
                }
                if matches!(&request, SessionRequest::Exec(words) if words == b"slam") {
                    server.channel_close(id);
                }
                if let SessionRequest::Exec(words) = &request
                    && let Some(status) = words.strip_prefix(b"exit ")
                {
                    let status = std::str::from_utf8(status).unwrap().parse().unwrap();
                    let _ = server.channel_request(id, &SessionRequest::ExitStatus(status));
                    server.channel_eof(id);
                    server.channel_close(id);
                }
            }
            ChannelEvent::Readable(_) if self.takes_nothing && self.ours.contains(&id) => {}
            ChannelEvent::Readable(stream) if self.ours.contains(&id) => {
                while let Some(data) = server.channel_take(id, stream) {
                    heard.data.extend_from_slice(&data);
                    server.channel_consumed(id, data.len(), Instant::now());
                }
            }
            ChannelEvent::Readable(stream) => {
                while let Some(data) = server.channel_take(id, stream) {
                    heard.data.extend_from_slice(&data);
                    self.echoes.entry(id).or_default().0.push_back(data);
                }
                self.echo(server, id);
            }
            ChannelEvent::Writable => self.echo(server, id),
            ChannelEvent::Eof if self.ours.contains(&id) => heard.ended += 1,
            ChannelEvent::Eof => {
                self.echoes.entry(id).or_default().1 = true;
                self.echo(server, id);
            }
            ChannelEvent::Closed => {
                match self.ours.contains(&id) {
                    true => heard.closed += 1,
                    false => heard.channels -= 1,
                }
                server.channel_release(id);
            }
            ChannelEvent::Reply { .. } => {}
        }
    }
}

/// Runs on a single-threaded runtime, and not for ever.
pub fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), future).await.expect("it hangs") })
}
