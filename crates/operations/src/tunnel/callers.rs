//! Who connects to a tunnel here: taken in, held while there is no link, and led on.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use bytes::Bytes;
use lantern_book::TunnelEnd;
use lantern_link::{
    Channel, Greeting, LinkError, Listener, LocalStream, Next, Outcome, Passing, Trunk, TunnelLogin, Wish,
    chain, relay,
};
use lantern_ssh::{DirectTcpip, OpenFailure};
use tokio::io::Interest;
use tokio::sync::Semaphore;
use tokio::time::{Instant, sleep, timeout_at};
use tracing::debug;

use super::behind::{Behind, Spoken};
use super::board::{Board, Counts};

/// How long a program may take to say where it wants to go.
const GREETING_TIME: Duration = Duration::from_secs(30);
/// How soon another caller is tried to be taken in, where the system had no room for one.
const NO_ROOM: Duration = Duration::from_millis(100);

/// One tunnel that listens here.
pub(super) struct Entrance {
    pub(super) index: usize,
    pub(super) board: Arc<Board>,
    pub(super) counts: Arc<Counts>,
    /// Where it leads; none: wherever its callers say.
    pub(super) to: Option<TunnelEnd>,
    /// How long callers wait for a link.
    pub(super) hold: Duration,
    /// What callers of a dynamic one must present.
    pub(super) login: Option<TunnelLogin>,
    /// For callers of all tunnels of the link: a connection has room for so many channels.
    pub(super) places: Arc<Semaphore>,
}

/// One more that goes through, until this is dropped.
pub(super) struct Counted(Arc<Counts>);

impl Counted {
    pub(super) fn new(counts: Arc<Counts>) -> Self {
        counts.open.fetch_add(1, Ordering::Relaxed);
        counts.total.fetch_add(1, Ordering::Relaxed);
        Self(counts)
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.open.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Entrance {
    /// Takes callers in for ever; those who find no place wait at the door.
    pub(super) async fn attend(self: Arc<Self>, listener: Listener) {
        let mut guests = tokio::task::JoinSet::new();
        loop {
            let Ok(place) = self.places.clone().acquire_owned().await else { return };
            tokio::select! {
                caller = listener.accept() => match caller {
                    Ok(caller) => {
                        let entrance = self.clone();
                        guests.spawn(async move {
                            let _counted = Counted::new(entrance.counts.clone());
                            entrance.lead(caller).await;
                            drop(place);
                        });
                    }
                    Err(error) => {
                        debug!(%error, "no caller can be taken in");
                        sleep(NO_ROOM).await;
                    }
                },
                Some(_) = guests.join_next() => {}
            }
        }
    }

    async fn lead(&self, caller: LocalStream) {
        let (to, dialect, first) = match &self.to {
            Some(to) => (to.clone(), None, Bytes::new()),
            None => {
                match timeout_at(Instant::now() + GREETING_TIME, greet(&caller, self.login.clone())).await {
                    Ok(Ok((wish, rest))) => {
                        let to = TunnelEnd::Tcp { host: wish.host, port: wish.port };
                        (to, Some(wish.dialect), rest)
                    }
                    Ok(Err(why)) => {
                        self.board.note(self.index, format!("a caller was refused: {why}"));
                        return;
                    }
                    Err(_) => return,
                }
            }
        };
        match self.open(&caller, &to).await {
            Ok(channel) => {
                if let Some(dialect) = dialect
                    && say(&caller, &dialect.answer(Outcome::Connected)).await.is_err()
                {
                    return;
                }
                let passing = Watched::new(self);
                let _ = relay(channel, caller, first, &passing).await;
            }
            Err(Gone) => {}
            Err(NotOpened(outcome, why)) => {
                self.board.note(self.index, why);
                if let Some(dialect) = dialect {
                    // It is told in its own protocol, and that takes an end and no reset.
                    let _ = say(&caller, &dialect.answer(outcome)).await;
                    caller.finish();
                } else {
                    caller.reset();
                }
            }
        }
    }

    /// A channel to that place; over the next link, where this one is lost meanwhile.
    async fn open(&self, caller: &LocalStream, to: &TunnelEnd) -> Result<Channel, Closed> {
        let mut link = self.board.link();
        let deadline = Instant::now() + self.hold;
        let from =
            caller.peer().map_or(("127.0.0.1".to_owned(), 0), |peer| (peer.ip().to_string(), peer.port()));
        loop {
            let trunk: Option<Trunk> = link.borrow_and_update().clone();
            let Some(trunk) = trunk else {
                tokio::select! {
                    changed = timeout_at(deadline, link.changed()) => match changed {
                        Ok(Ok(())) => continue,
                        _ => {
                            let why = format!("a caller waited {} s for the link, and was refused", self.hold.as_secs());
                            return Err(NotOpened(Outcome::Unreachable, why));
                        }
                    },
                    // One that has gone meanwhile is not led anywhere.
                    Ok(ready) = caller.ready(Interest::ERROR) => match ready.is_error() {
                        true => return Err(Gone),
                        false => continue,
                    }
                }
            };
            let opened = match to {
                TunnelEnd::Tcp { host, port } => {
                    let to = DirectTcpip { host: host.clone(), port: *port, originator: from.clone() };
                    trunk.open_direct(&to).await
                }
                TunnelEnd::Unix(path) => trunk.open_streamlocal(path).await,
            };
            return match opened {
                Ok(channel) => Ok(channel),
                Err(LinkError::Lost { .. }) if Instant::now() < deadline => {
                    drop(trunk);
                    // Whoever keeps the link up hears of it in a moment.
                    let _ = timeout_at(deadline, link.wait_for(Option::is_none)).await;
                    continue;
                }
                Err(LinkError::GatewayRefused { source, .. }) => {
                    let outcome = match source.code {
                        OpenFailure::PROHIBITED => Outcome::NotAllowed,
                        OpenFailure::CONNECT_FAILED => Outcome::Refused,
                        _ => Outcome::Unreachable,
                    };
                    Err(NotOpened(outcome, format!("{to}: {source}")))
                }
                Err(error) => Err(NotOpened(Outcome::Unreachable, format!("{to}: {}", chain(&error)))),
            };
        }
    }
}

/// Why a caller is not led on.
enum Closed {
    /// It has gone.
    Gone,
    /// What is answered, and the reason in words.
    NotOpened(Outcome, String),
}
use Closed::{Gone, NotOpened};

/// What a program wants that uses a dynamic tunnel, and what it said behind that.
async fn greet(caller: &LocalStream, login: Option<TunnelLogin>) -> Result<(Wish, Bytes), &'static str> {
    let mut greeting = Greeting::new(login);
    loop {
        match greeting.look() {
            Next::Say(words) => say(caller, &words).await.map_err(|_| "it went away")?,
            Next::Go(wish) => return Ok((wish, Bytes::copy_from_slice(greeting.rest()))),
            Next::Refuse(words, why) => {
                let _ = say(caller, &words).await;
                caller.finish();
                return Err(why);
            }
            Next::Read => {
                let mut buffer = bytes::BytesMut::with_capacity(1024);
                caller.ready(Interest::READABLE).await.map_err(|_| "it went away")?;
                match caller.try_read(&mut buffer) {
                    Ok(0) => return Err("it said nothing"),
                    Ok(_) => greeting.feed(&buffer),
                    Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
                    Err(_) => return Err("it went away"),
                }
            }
        }
    }
}

async fn say(caller: &LocalStream, mut words: &[u8]) -> std::io::Result<()> {
    while !words.is_empty() {
        caller.ready(Interest::WRITABLE).await?;
        match caller.try_write(&[std::io::IoSlice::new(words)]) {
            Ok(len) => words = words.get(len..).unwrap_or_default(),
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// Counts what passes, and notices a caller that speaks another protocol than what is behind.
struct Watched<'a> {
    entrance: &'a Entrance,
    has_begun: AtomicBool,
}

impl<'a> Watched<'a> {
    fn new(entrance: &'a Entrance) -> Self {
        // Where each caller leads elsewhere, nothing is known of what is behind.
        Self { entrance, has_begun: AtomicBool::new(entrance.to.is_none()) }
    }
}

impl Passing for Watched<'_> {
    fn outward(&self, piece: &[u8]) {
        self.entrance.counts.meter.outward(piece);
        if !piece.is_empty() && !self.has_begun.swap(true, Ordering::Relaxed) {
            let entrance = self.entrance;
            let mismatch = match (Spoken::of(piece), entrance.board.behind(entrance.index)) {
                (Some(Spoken::Tls), Some(Behind::Http { .. })) => {
                    "a caller asked for https, and what is behind speaks http"
                }
                (Some(Spoken::Http), Some(Behind::Tls { .. })) => {
                    "a caller asked for http, and what is behind speaks https"
                }
                _ => return,
            };
            entrance.board.note(entrance.index, mismatch.to_owned());
        }
    }

    fn inward(&self, bytes: usize) {
        self.entrance.counts.meter.inward(bytes);
    }
}
