//! One channel of a program, joined with a channel of the connection.

use bytes::Bytes;
use lantern_link::{Channel, ChannelEnd, Reply};
use lantern_ssh::{ChannelId, OpenFailure, PeerChannel, SessionRequest, Stream};
use tokio::sync::mpsc;
use tokio::task::JoinSet;

/// Pieces on their way to programs; a full queue makes the connection's channels wait.
pub(super) const QUEUE: usize = 64;

/// What happens on the connection's side.
pub(super) enum News {
    /// A channel that the program wanted is open, or is not.
    Opened(ChannelId, Result<Channel, OpenFailure>),
    /// A piece for a channel.
    Data(ChannelId, Stream, Bytes),
    /// The machine sends no more on it.
    Ended(ChannelId),
    /// How it ended: no more follows.
    Closed(ChannelId, ChannelEnd),
    /// The answer to the oldest request that has none.
    Answer(ChannelId, bool),
    /// So much of what the program sent was taken.
    Taken(ChannelId, usize),
    /// The machine opened this under a grant, with what was read of it.
    Granted(PeerChannel, Channel, Bytes),
    /// Whether the machine listens there.
    Listens(lantern_ssh::ListenTicket, Option<lantern_link::Listening>),
}

/// A channel of the connection, and the tasks that move what is on it.
pub(super) struct Passage {
    channel: Channel,
    outward: mpsc::UnboundedSender<Outward>,
    /// Lets the next piece of each stream come, when the last has left.
    onward: [mpsc::UnboundedSender<()>; 2],
    /// They go when this does.
    tasks: JoinSet<()>,
}

enum Outward {
    Data(Bytes),
    Eof,
    Close,
    Answer(Reply),
}

impl Passage {
    /// Begins to move. `first` is what was read of it before.
    pub(super) fn begin(id: ChannelId, channel: Channel, first: Bytes, tell: &mpsc::Sender<News>) -> Self {
        let mut tasks = JoinSet::new();
        let (outward, wanted) = mpsc::unbounded_channel();
        tasks.spawn(outwards(id, channel.clone(), wanted, tell.clone()));
        let (main, main_goes_on) = mpsc::unbounded_channel();
        let (error, error_goes_on) = mpsc::unbounded_channel();
        let (reader, side) = (channel.clone(), channel.clone());
        let tell = tell.clone();
        tasks.spawn(async move {
            let both = async {
                tokio::join!(
                    inwards(id, &reader, Stream::Main, first, main_goes_on, &tell),
                    inwards(id, &side, Stream::Stderr, Bytes::new(), error_goes_on, &tell),
                )
            };
            both.await;
            // Everything that came has been passed on: now its end can be told.
            if reader.is_finished_by_peer() {
                let _ = tell.send(News::Ended(id)).await;
            }
            let end = reader.ended().await;
            let _ = tell.send(News::Closed(id, end)).await;
        });
        Self { channel, outward, onward: [main, error], tasks }
    }

    /// The last piece of a stream has left.
    pub(super) fn go_on(&self, stream: Stream) {
        let [main, error] = &self.onward;
        let _ = if stream == Stream::Main { main.send(()) } else { error.send(()) };
    }

    /// What the program sent; no more of it waits here than its window lets it send.
    pub(super) fn data(&self, data: Bytes) {
        let _ = self.outward.send(Outward::Data(data));
    }

    pub(super) fn eof(&self) {
        let _ = self.outward.send(Outward::Eof);
    }

    /// The program has closed it: what it sent before still goes, and then the channel is closed.
    pub(super) fn finish(mut self) {
        let _ = self.outward.send(Outward::Close);
        self.tasks.detach_all();
    }

    /// Passes a request on. One that wants an answer gets it as [`News::Answer`], in the order of the requests.
    pub(super) fn request(&self, request: &SessionRequest, want_reply: bool) {
        match want_reply {
            true => drop(self.outward.send(Outward::Answer(self.channel.ask(request)))),
            false => self.channel.tell(request),
        }
    }
}

/// Towards the machine. Answers are waited for by a task of their own, so that data does not wait for them.
async fn outwards(
    id: ChannelId,
    channel: Channel,
    mut wanted: mpsc::UnboundedReceiver<Outward>,
    tell: mpsc::Sender<News>,
) {
    let (ask, mut asked) = mpsc::unbounded_channel::<Reply>();
    let answers = async {
        while let Some(reply) = asked.recv().await {
            let granted = reply.await.unwrap_or(false);
            if tell.send(News::Answer(id, granted)).await.is_err() {
                return;
            }
        }
    };
    let moves = async {
        // Dropped with this: then the answers end, too.
        let ask = ask;
        while let Some(wanted) = wanted.recv().await {
            match wanted {
                Outward::Data(mut data) => {
                    let len = data.len();
                    // What has ended takes no more, and tells so by its end.
                    let _ = channel.send(&mut data).await;
                    if tell.send(News::Taken(id, len)).await.is_err() {
                        return;
                    }
                }
                Outward::Eof => channel.send_eof(),
                Outward::Close => channel.close(),
                Outward::Answer(reply) => drop(ask.send(reply)),
            }
        }
    };
    tokio::join!(answers, moves);
}

/// From the machine, a piece at a time: the next one is taken when the last has left.
async fn inwards(
    id: ChannelId,
    channel: &Channel,
    stream: Stream,
    first: Bytes,
    mut goes_on: mpsc::UnboundedReceiver<()>,
    tell: &mpsc::Sender<News>,
) {
    let mut next = Some(first).filter(|first| !first.is_empty());
    loop {
        let piece = match next.take() {
            Some(piece) => piece,
            None => match channel.next(stream).await {
                Some(piece) => piece,
                None => return,
            },
        };
        let len = piece.len();
        if tell.send(News::Data(id, stream, piece)).await.is_err() || goes_on.recv().await.is_none() {
            return;
        }
        channel.consumed(len);
    }
}
