//! What a simulated machine forwards: channels to its own services and to machines behind it, and ports that it listens on for its visitors.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use bytes::Bytes;
use lantern_link::Line;
use lantern_ssh::{ChannelId, DirectTcpip, Forwarded, ListenAt, ListenTicket, OpenFailure};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use crate::MachineSpec;

/// Pieces on their way from sockets; a full queue makes them wait.
const QUEUE: usize = 64;
/// Largest piece, in bytes.
const PIECE: usize = 16 * 1024;
/// What the machine calls itself.
const ITSELF: [&str; 3] = ["127.0.0.1", "localhost", "::1"];

/// Where machines behind gateways really listen, by the address that the gateway knows them by.
pub(crate) type InnerNetwork = Arc<HashMap<(String, u16), SocketAddr>>;

/// What happens to what is forwarded.
pub(crate) enum News {
    /// A channel leads there now, or does not.
    Opened(ChannelId, Result<Line, OpenFailure>),
    /// Bytes for a channel.
    Data(ChannelId, Bytes),
    /// What a channel leads to has ended, or was broken off.
    Ended(ChannelId, bool),
    /// So many bytes of a channel were taken.
    Taken(ChannelId, usize),
    /// A port is listened on, or is not.
    Listens(ListenTicket, ListenAt, Option<(u16, JoinHandle<()>)>),
    /// Somebody has connected to a port that is listened on for the visitor.
    Caller(Forwarded, TcpStream),
}

/// One channel and what it leads to. Dropped, both sides of that are closed.
struct Bridge {
    to_it: Option<mpsc::UnboundedSender<Bytes>>,
    /// Lets the next piece come, when the last has left.
    onward: mpsc::UnboundedSender<()>,
    reader: JoinHandle<()>,
    writer: JoinHandle<()>,
    has_ended: bool,
}

impl Drop for Bridge {
    fn drop(&mut self) {
        self.reader.abort();
        // The writer ends with what it has: its sender goes with this.
    }
}

/// What is forwarded on one connection.
pub(crate) struct Forwards {
    network: InnerNetwork,
    spec: Arc<MachineSpec>,
    bridges: HashMap<ChannelId, Bridge>,
    listening: HashMap<ListenAt, JoinHandle<()>>,
    tell: mpsc::Sender<News>,
    pub(crate) news: mpsc::Receiver<News>,
}

impl Drop for Forwards {
    fn drop(&mut self) {
        self.listening.values().for_each(JoinHandle::abort);
        self.bridges.values().for_each(|bridge| bridge.writer.abort());
    }
}

fn refused(code: u32, words: &str) -> OpenFailure {
    OpenFailure { code, description: words.to_owned() }
}

impl Forwards {
    pub(crate) fn new(network: InnerNetwork, spec: Arc<MachineSpec>) -> Self {
        let (tell, news) = mpsc::channel(QUEUE);
        Self { network, spec, bridges: HashMap::new(), listening: HashMap::new(), tell, news }
    }

    /// Connects a channel with where it is to lead; [`News::Opened`] follows.
    pub(crate) fn open(&self, id: ChannelId, to: &DirectTcpip) {
        let leads = self.leads_to(to);
        let tell = self.tell.clone();
        tokio::spawn(async move {
            let opened = match leads {
                Ok(Leads::Here(line)) => Ok(line),
                Ok(Leads::On(address)) => match TcpStream::connect(address).await {
                    Ok(stream) => {
                        let _ = stream.set_nodelay(true);
                        Ok(Box::new(stream) as Line)
                    }
                    Err(_) => Err(refused(OpenFailure::CONNECT_FAILED, "the machine does not answer")),
                },
                Err(failure) => Err(failure),
            };
            let _ = tell.send(News::Opened(id, opened)).await;
        });
    }

    fn leads_to(&self, to: &DirectTcpip) -> Result<Leads, OpenFailure> {
        let spec = &self.spec;
        if spec.forbids_forwarding || !spec.gateway && spec.services.is_empty() {
            return Err(refused(OpenFailure::PROHIBITED, "this machine passes nothing on"));
        }
        if ITSELF.contains(&to.host.as_str()) {
            let service = spec.services.iter().find(|(port, _)| *port == to.port);
            return match service {
                Some((_, service)) => Ok(Leads::Here(service.connect(&spec.name))),
                None => Err(refused(OpenFailure::CONNECT_FAILED, "Connection refused")),
            };
        }
        match self.network.get(&(to.host.clone(), to.port)) {
            _ if !spec.gateway => Err(refused(OpenFailure::CONNECT_FAILED, "No route to host")),
            Some(address) => Ok(Leads::On(*address)),
            None => Err(refused(OpenFailure::CONNECT_FAILED, "no machine of the inner harbour is there")),
        }
    }

    /// Joins a channel that is open with what it leads to.
    pub(crate) fn join(&mut self, id: ChannelId, line: Line) {
        let (mut read, mut write) = tokio::io::split(line);
        let (to_it, mut pieces) = mpsc::unbounded_channel::<Bytes>();
        let (onward, mut may_go_on) = mpsc::unbounded_channel::<()>();
        let tell = self.tell.clone();
        let writer = tokio::spawn(async move {
            // No more than the channel's window waits here: it is credited when it was taken.
            while let Some(piece) = pieces.recv().await {
                if write.write_all(&piece).await.is_err()
                    || tell.send(News::Taken(id, piece.len())).await.is_err()
                {
                    return;
                }
            }
            let _ = write.shutdown().await;
        });
        let tell = self.tell.clone();
        let reader = tokio::spawn(async move {
            let mut buffer = vec![0; PIECE];
            loop {
                let news = match read.read(&mut buffer).await {
                    Ok(0) => News::Ended(id, true),
                    Ok(len) => News::Data(id, Bytes::copy_from_slice(buffer.get(..len).unwrap_or_default())),
                    Err(_) => News::Ended(id, false),
                };
                let ended = matches!(news, News::Ended(..));
                if tell.send(news).await.is_err() || ended || may_go_on.recv().await.is_none() {
                    return;
                }
            }
        });
        self.bridges.insert(id, Bridge { to_it: Some(to_it), onward, reader, writer, has_ended: false });
    }

    /// Data of a channel; whether it leads anywhere at all.
    pub(crate) fn data(&self, id: ChannelId, data: Bytes) -> bool {
        match self.bridges.get(&id) {
            Some(bridge) => {
                // What is gone tells its end on its own.
                let _ = bridge.to_it.as_ref().map(|to_it| to_it.send(data));
                true
            }
            None => false,
        }
    }

    /// The visitor sends no more; whether both sides have said so now.
    pub(crate) fn end_of_data(&mut self, id: ChannelId) -> bool {
        let Some(bridge) = self.bridges.get_mut(&id) else { return false };
        bridge.to_it = None;
        bridge.has_ended
    }

    /// What a channel leads to sends no more; whether both sides have said so now.
    pub(crate) fn ended(&mut self, id: ChannelId) -> bool {
        let Some(bridge) = self.bridges.get_mut(&id) else { return false };
        bridge.has_ended = true;
        bridge.to_it.is_none()
    }

    /// The last piece has left.
    pub(crate) fn go_on(&self, id: ChannelId) {
        let _ = self.bridges.get(&id).map(|bridge| bridge.onward.send(()));
    }

    /// The channel is closed.
    pub(crate) fn forget(&mut self, id: ChannelId) {
        self.bridges.remove(&id);
    }

    /// Listens for the visitor, on the machine's own address; [`News::Listens`] follows.
    pub(crate) fn listen(&self, ticket: ListenTicket, at: ListenAt) {
        let tell = self.tell.clone();
        let own = self.spec.address;
        let may = self.spec.listens && !self.spec.forbids_forwarding;
        tokio::spawn(async move {
            let bound = match (&at, may) {
                (ListenAt::Tcp { address, port }, true) => bind(own, address, *port).await,
                _ => None,
            };
            let listens = bound.and_then(|listener| {
                let port = listener.local_addr().ok()?.port();
                let ListenAt::Tcp { address, .. } = &at else { return None };
                Some((port, tokio::spawn(take_callers(listener, address.clone(), port, tell.clone()))))
            });
            let _ = tell.send(News::Listens(ticket, at, listens)).await;
        });
    }

    /// It listens.
    pub(crate) fn listens(&mut self, at: ListenAt, listener: JoinHandle<()>) {
        self.listening.insert(at, listener);
    }

    /// And no more.
    pub(crate) fn stop_listening(&mut self, at: &ListenAt) {
        if let Some(listener) = self.listening.remove(at) {
            listener.abort();
        }
    }
}

enum Leads {
    /// To a service of the machine itself.
    Here(Line),
    /// To another machine.
    On(SocketAddr),
}

/// A simulated machine has one address, which is its loopback and all else that it can listen on.
async fn bind(own: IpAddr, address: &str, port: u16) -> Option<TcpListener> {
    let known = ITSELF.contains(&address) || ["", "0.0.0.0", "::", "*"].contains(&address);
    if !known && address.parse() != Ok(own) {
        return None;
    }
    TcpListener::bind((own, port)).await.ok()
}

async fn take_callers(listener: TcpListener, address: String, port: u16, tell: mpsc::Sender<News>) {
    while let Ok((stream, peer)) = listener.accept().await {
        let originator = (peer.ip().to_string(), peer.port());
        let from = Forwarded { address: address.clone(), port, originator };
        if tell.send(News::Caller(from, stream)).await.is_err() {
            return;
        }
    }
}
