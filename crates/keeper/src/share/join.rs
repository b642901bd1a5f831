//! One program that has joined: a server towards it, a user of the connection towards the machine.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use lantern_keys::SystemRandom;
use lantern_link::{Channel, ChannelEnd, LinkError, Pool, Pump, PumpError, Trunk};
use lantern_ssh::{
    ChannelEvent, ChannelId, GlobalEvent, Machine, OpenFailure, PeerChannel, Server, ServerEvent,
    SessionRequest, Stream,
};
use tokio::net::UnixStream;
use tokio::sync::mpsc;

use super::grants::ProgramGrants;
use super::passage::{News, Passage, QUEUE};

/// Serves a program until it goes away, or the connection does. `rest` is what it had sent already.
///
/// # Errors
/// What ended it; nobody needs to hear of a program that has gone.
pub(crate) async fn serve(
    trunk: Trunk,
    pool: Arc<Pool>,
    stream: UnixStream,
    rest: Vec<u8>,
) -> Result<(), PumpError> {
    let mut server = Server::joined(Box::new(SystemRandom), Instant::now())?;
    server.receive_buffer().extend_from_slice(&rest);
    server.handle_input(Instant::now())?;
    let (tell, news) = mpsc::channel(QUEUE);
    let grants = ProgramGrants::new(trunk.clone(), tell.clone());
    let joined = Joined {
        trunk,
        pool,
        server,
        tell,
        grants,
        passages: HashMap::new(),
        unsent: HashMap::new(),
        arriving: HashMap::new(),
    };
    joined.run(Pump::new(stream), news).await
}

struct Joined {
    trunk: Trunk,
    /// Where sessions wait.
    pool: Arc<Pool>,
    server: Server,
    tell: mpsc::Sender<News>,
    grants: ProgramGrants,
    passages: HashMap<ChannelId, Passage>,
    /// What came for channels and has not all gone into them.
    unsent: HashMap<(ChannelId, Stream), Bytes>,
    /// What the machine opened, until the program has taken it.
    arriving: HashMap<ChannelId, (Channel, Bytes)>,
}

impl Joined {
    async fn run(
        mut self,
        mut pump: Pump<UnixStream>,
        mut news: mpsc::Receiver<News>,
    ) -> Result<(), PumpError> {
        let trunk = self.trunk.clone();
        let mut lost = Box::pin(trunk.ended());
        loop {
            while let Some(event) = self.server.poll_event() {
                match event {
                    ServerEvent::Channel(id, event) => self.on_channel(id, event)?,
                    ServerEvent::Global(event) => self.on_global(event),
                    ServerEvent::Auth(_) => {}
                }
            }
            tokio::select! {
                turn = pump.turn(&mut self.server) => turn?,
                Some(news) = news.recv() => self.on_news(news)?,
                error = &mut lost => {
                    // In its own words; whoever joined sees the same end as whoever made the connection.
                    let words = match &error {
                        LinkError::Lost { source, .. } => source.to_string(),
                        error => error.to_string(),
                    };
                    self.server.disconnect(lantern_ssh::disconnect::CONNECTION_LOST, &words);
                    let _ = pump.turn(&mut self.server).await;
                    return Ok(());
                }
            }
        }
    }

    fn on_channel(&mut self, id: ChannelId, event: ChannelEvent) -> Result<(), PumpError> {
        match event {
            ChannelEvent::OpenWanted(to) => self.open(id, to),
            ChannelEvent::Opened => {
                if let Some((channel, first)) = self.arriving.remove(&id) {
                    self.passages.insert(id, Passage::begin(id, channel, first, &self.tell));
                }
            }
            ChannelEvent::OpenFailed(_) => drop(self.arriving.remove(&id)),
            ChannelEvent::Request { request, want_reply } => {
                self.grants.learn(&request);
                match self.passages.get(&id) {
                    Some(passage) => passage.request(&request, want_reply),
                    None if want_reply => self.server.channel_reply(id, false)?,
                    None => {}
                }
            }
            ChannelEvent::Readable(stream) => {
                while let Some(data) = self.server.channel_take(id, stream) {
                    match self.passages.get(&id) {
                        Some(passage) => passage.data(data),
                        None => self.server.channel_consumed(id, data.len(), Instant::now()),
                    }
                }
            }
            ChannelEvent::Writable => {
                for stream in [Stream::Main, Stream::Stderr] {
                    self.send_on(id, stream);
                }
            }
            ChannelEvent::Eof => drop(self.passages.get(&id).map(Passage::eof)),
            ChannelEvent::Closed => self.forget(id),
            ChannelEvent::Reply { .. } => {}
        }
        Ok(())
    }

    /// Opens on the connection what the program opened: a session, or what it is to lead to.
    fn open(&self, id: ChannelId, to: PeerChannel) {
        let (trunk, pool, tell) = (self.trunk.clone(), self.pool.clone(), self.tell.clone());
        tokio::spawn(async move {
            let opened = match to {
                PeerChannel::Session => pool.session(&trunk).await,
                PeerChannel::Direct(to) => trunk.open_direct(&to).await,
                PeerChannel::DirectUnix(path) => trunk.open_streamlocal(&path).await,
                _ => Err(LinkError::ChannelRefused {
                    machine: String::new(),
                    source: OpenFailure { code: OpenFailure::UNKNOWN_TYPE, description: String::new() },
                }),
            };
            let opened = opened.map_err(|error| match error {
                LinkError::GatewayRefused { source, .. } | LinkError::ChannelRefused { source, .. } => source,
                error => OpenFailure {
                    code: OpenFailure::CONNECT_FAILED,
                    description: lantern_link::chain(&error),
                },
            });
            let _ = tell.send(News::Opened(id, opened)).await;
        });
    }

    fn on_global(&mut self, event: GlobalEvent) {
        match event {
            GlobalEvent::ListenWanted(ticket, at) => {
                let (trunk, tell) = (self.trunk.clone(), self.tell.clone());
                tokio::spawn(async move {
                    let listening = trunk.listen(&at).await.ok();
                    let _ = tell.send(News::Listens(ticket, listening)).await;
                });
            }
            GlobalEvent::StopListening(at) => self.grants.stop(&at),
            _ => {}
        }
    }

    fn on_news(&mut self, news: News) -> Result<(), PumpError> {
        match news {
            News::Opened(id, Ok(channel)) => {
                // Given up by the program meanwhile, it is dropped, which closes it.
                if self.server.answer_open(id, Ok(())).is_ok() {
                    self.passages.insert(id, Passage::begin(id, channel, Bytes::new(), &self.tell));
                }
            }
            News::Opened(id, Err(failure)) => drop(self.server.answer_open(id, Err(failure))),
            News::Data(id, stream, piece) => {
                self.unsent.insert((id, stream), piece);
                self.send_on(id, stream);
            }
            News::Ended(id) => self.server.channel_eof(id),
            // The whole connection is, and that is told in its own words.
            News::Closed(_, ChannelEnd::Lost(_)) => {}
            News::Closed(id, end) => {
                let told = match end {
                    ChannelEnd::Exited(status) => Some(SessionRequest::ExitStatus(status)),
                    ChannelEnd::Signaled { name, core_dumped, message } => {
                        Some(SessionRequest::ExitSignal { name, core_dumped, message })
                    }
                    ChannelEnd::Closed | ChannelEnd::Lost(_) => None,
                };
                if let Some(told) = told {
                    let _ = self.server.channel_request(id, &told);
                }
                self.server.channel_close(id);
            }
            News::Answer(id, granted) => self.server.channel_reply(id, granted)?,
            News::Taken(id, len) => self.server.channel_consumed(id, len, Instant::now()),
            News::Granted(kind, channel, first) => {
                if let Ok(id) = self.server.open_channel(&kind, Instant::now()) {
                    self.arriving.insert(id, (channel, first));
                }
            }
            News::Listens(ticket, listening) => {
                let port = listening.as_ref().map(|listening| match listening.at() {
                    lantern_ssh::ListenAt::Tcp { port, .. } => *port,
                    lantern_ssh::ListenAt::Unix(_) => 0,
                });
                self.server.answer_listen(ticket, port)?;
                listening.into_iter().for_each(|listening| self.grants.take(listening));
            }
        }
        Ok(())
    }

    /// A piece that waits goes into its channel, as far as there is room.
    fn send_on(&mut self, id: ChannelId, stream: Stream) {
        let Some(piece) = self.unsent.get_mut(&(id, stream)) else { return };
        // A channel that the program closed meanwhile takes nothing any more.
        if self.server.channel_send(id, stream, piece).is_err() {
            piece.clear();
        }
        if piece.is_empty() {
            self.unsent.remove(&(id, stream));
            if let Some(passage) = self.passages.get(&id) {
                passage.go_on(stream);
            }
        }
    }

    fn forget(&mut self, id: ChannelId) {
        if let Some(passage) = self.passages.remove(&id) {
            passage.finish();
        }
        self.arriving.remove(&id);
        for stream in [Stream::Main, Stream::Stderr] {
            self.unsent.remove(&(id, stream));
        }
        self.server.channel_release(id);
    }
}
