//! A gateway's way on: channels of a connection joined with sockets to other machines.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use bytes::Bytes;
use lantern_ssh::{ChannelId, DirectTcpip, OpenFailure};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::mpsc;

/// Pieces on their way from a socket; a full queue makes the socket wait.
const QUEUE: usize = 16;
/// Largest piece, in bytes.
const PIECE: usize = 16 * 1024;

/// Where machines behind gateways really listen, by the address that the gateway knows them by.
pub(crate) type InnerNetwork = Arc<HashMap<(String, u16), SocketAddr>>;

/// What comes from a socket for a channel; nothing: it ended.
pub(crate) type Piece = (ChannelId, Option<Bytes>);

/// The bridges of one connection.
pub(crate) struct Bridges {
    network: InnerNetwork,
    is_gateway: bool,
    senders: HashMap<ChannelId, mpsc::UnboundedSender<Bytes>>,
    outgoing: mpsc::Sender<Piece>,
    pub(crate) incoming: mpsc::Receiver<Piece>,
}

impl Bridges {
    pub(crate) fn new(network: InnerNetwork, is_gateway: bool) -> Self {
        let (outgoing, incoming) = mpsc::channel(QUEUE);
        Self { network, is_gateway, senders: HashMap::new(), outgoing, incoming }
    }

    /// Connects a channel with where it is to lead.
    pub(crate) async fn open(&mut self, id: ChannelId, to: &DirectTcpip) -> Result<(), OpenFailure> {
        let refuse = |code, words: &str| Err(OpenFailure { code, description: words.to_owned() });
        if !self.is_gateway {
            return refuse(OpenFailure::PROHIBITED, "this machine passes nothing on");
        }
        let Some(address) = self.network.get(&(to.host.clone(), to.port)) else {
            return refuse(OpenFailure::CONNECT_FAILED, "no machine of the inner harbour is there");
        };
        let Ok(stream) = TcpStream::connect(address).await else {
            return refuse(OpenFailure::CONNECT_FAILED, "the machine does not answer");
        };
        let _ = stream.set_nodelay(true);
        let (mut read, mut write) = stream.into_split();
        let (sender, mut receiver) = mpsc::unbounded_channel::<Bytes>();
        let outgoing = self.outgoing.clone();
        tokio::spawn(async move {
            while let Some(piece) = receiver.recv().await {
                if write.write_all(&piece).await.is_err() {
                    break;
                }
            }
        });
        tokio::spawn(async move {
            let mut buffer = vec![0; PIECE];
            loop {
                let len = read.read(&mut buffer).await.unwrap_or(0);
                let piece = buffer.get(..len).filter(|piece| !piece.is_empty()).map(Bytes::copy_from_slice);
                let ended = piece.is_none();
                if outgoing.send((id, piece)).await.is_err() || ended {
                    break;
                }
            }
        });
        self.senders.insert(id, sender);
        Ok(())
    }

    /// Data for the socket of a channel; whether the channel is a bridge at all.
    pub(crate) fn data(&self, id: ChannelId, data: Bytes) -> bool {
        match self.senders.get(&id) {
            Some(sender) => {
                // A socket that is gone tells its end on its own.
                let _ = sender.send(data);
                true
            }
            None => false,
        }
    }

    /// The client sends no more, or closed.
    pub(crate) fn end(&mut self, id: ChannelId) -> bool {
        self.senders.remove(&id).is_some()
    }
}
