//! A logged-in connection that many can use at once: one task owns the socket, handles open channels.
//!
//! ```text
//!   Trunk, Trunk (clones) ──┐                        ┌── reads and writes ──► Line
//!   Channel, Channel …   ───┴─► Shared (one lock) ◄──┴── the driver, a task
//! ```
//!
//! The protocol machine stands behind one lock that nobody holds while waiting. A handle changes it and wakes the driver;
//! the driver moves bytes and wakes whoever waits for what came of them. Data waits in the machine, where it is counted, and
//! nowhere else. The connection ends when the last handle is dropped, or with [`Trunk::close`].
//!
//! Every future here can be dropped at any point: what had been handed over stays handed over, and nothing that comes is lost.

mod channel;
mod displays;
mod driver;
mod early;
mod granted;
mod grants;
mod listen_requests;
mod listening;
mod state;

use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

use lantern_book::Rotation;
use lantern_keys::{PublicKey, SystemRandom};
use lantern_ssh::{Algorithms, Client, DirectTcpip, Joining, OpenFailure, SshError, Statistics};
use tokio::time::timeout;

use crate::LinkError;
use crate::line::Line;
use crate::program::Opens;
use crate::pump::Pump;

pub use channel::{Channel, ChannelEnd, Reply};
pub use displays::refuse_display;
use early::Early;
pub use granted::{Granted, Opened};
pub use grants::{Grant, Uses};
pub use listening::Listening;
use state::{Shared, Waits};

/// How soon a sign of life is noticed that somebody waits for.
const LOOK_AGAIN: Duration = Duration::from_millis(20);

/// What the handles of a connection have in common; the last one to go ends it.
pub(crate) struct Handle {
    shared: Arc<Shared>,
}

impl Drop for Handle {
    fn drop(&mut self) {
        self.shared.abandon();
    }
}

/// A connection that is logged in.
#[derive(Clone)]
pub struct Trunk {
    handle: Arc<Handle>,
    early: Early,
}

/// What the trunk is asked to remember about where it leads.
pub(crate) struct Destination {
    pub(crate) machine: String,
    pub(crate) user: String,
    /// Longest wait for an answer.
    pub(crate) answer_time: Duration,
}

/// A copy of what there is to tell about a connection.
#[derive(Debug, Clone)]
pub struct Account {
    /// The server's identification line, as it sent it.
    pub identification: String,
    /// The algorithms in use.
    pub algorithms: Option<Algorithms>,
    /// Whether strict key exchange is in force.
    pub is_strict: bool,
    /// Whether it is a part of a connection of another process: counters and silence are then those of this part.
    pub is_joined: bool,
    /// Counters.
    pub statistics: Statistics,
    /// How long the server has been silent.
    pub idle: Duration,
    /// What waits to be sent, in bytes.
    pub unsent: usize,
    /// What the connection makes us hold at the worst, in bytes.
    pub held: u64,
}

impl Trunk {
    /// Takes over a connection that has just been logged in. Must be called within a runtime.
    pub(crate) fn start(client: Client, pump: Pump<Line>, to: Destination, opens: Opens) -> Self {
        let shared = Arc::new(Shared::new(client, to));
        let handle = Arc::new(Handle { shared: shared.clone() });
        shared.lock().handle = Arc::downgrade(&handle);
        let trunk = Self { handle, early: Early::default() };
        trunk.keep_early(opens);
        tokio::spawn(driver::drive(shared, pump));
        trunk
    }

    /// Joins a connection that another process of ours has logged in, over a line to that process.
    ///
    /// # Errors
    /// None in practice: what making the machine can say.
    pub fn join(
        line: Line,
        machine: &str,
        user: &str,
        answer_time: Duration,
        to: Joining,
    ) -> Result<Self, LinkError> {
        let to_machine = Destination { machine: machine.to_owned(), user: user.to_owned(), answer_time };
        let client = Client::joined(user, to, Box::new(SystemRandom), Instant::now())
            .map_err(|source| LinkError::Lost { machine: machine.to_owned(), source })?;
        Ok(Self::start(client, Pump::new(line), to_machine, Opens::Nothing))
    }

    fn shared(&self) -> &Shared {
        &self.handle.shared
    }

    pub(crate) fn downgrade(&self) -> WeakTrunk {
        WeakTrunk(Arc::downgrade(&self.handle))
    }

    /// The machine, as the user calls it.
    pub fn machine(&self) -> &str {
        &self.shared().to.machine
    }

    /// The user logged in as.
    pub fn user(&self) -> &str {
        &self.shared().to.user
    }

    /// What there is to tell about the connection now.
    pub fn account(&self) -> Account {
        let state = self.shared().lock();
        let client = &state.client;
        Account {
            identification: client.peer_identification().to_owned(),
            algorithms: client.algorithms().copied(),
            is_strict: client.is_strict(),
            is_joined: client.is_joined(),
            statistics: client.statistics(),
            idle: client.idle(Instant::now()),
            unsent: client.unsent(),
            held: client.held_bytes(),
        }
    }

    /// Opens a session channel.
    ///
    /// # Errors
    /// [`LinkError::ChannelRefused`], [`LinkError::Unanswered`] or [`LinkError::Lost`].
    pub async fn open_session(&self) -> Result<Channel, LinkError> {
        let channel = match self.take_early_session() {
            Some(channel) => channel,
            None => self.begin(|client, now| client.open_session(now))?,
        };
        self.opened_session(channel).await
    }

    /// Opens a channel to a place that the machine reaches.
    ///
    /// # Errors
    /// [`LinkError::GatewayRefused`], [`LinkError::Unanswered`] or [`LinkError::Lost`].
    pub async fn open_direct(&self, to: &DirectTcpip) -> Result<Channel, LinkError> {
        let opened = self.open("a way on", |client, now| client.open_direct(to, now)).await?;
        let (gateway, to) = (self.machine().to_owned(), lantern_book::place(&to.host, to.port));
        opened.map_err(|source| LinkError::GatewayRefused { gateway, to, source })
    }

    /// Opens a channel to a unix socket of the machine.
    ///
    /// # Errors
    /// As [`Self::open_direct`].
    pub async fn open_streamlocal(&self, path: &str) -> Result<Channel, LinkError> {
        let opened = self.open("a way to a socket", |client, now| client.open_streamlocal(path, now)).await?;
        let (gateway, to) = (self.machine().to_owned(), path.to_owned());
        opened.map_err(|source| LinkError::GatewayRefused { gateway, to, source })
    }

    async fn open(
        &self,
        what: &'static str,
        open: impl FnOnce(&mut Client, Instant) -> Result<lantern_ssh::ChannelId, SshError>,
    ) -> Result<Result<Channel, OpenFailure>, LinkError> {
        let channel = self.begin(open)?;
        self.wait_for_opening(channel, what).await
    }

    fn begin(
        &self,
        open: impl FnOnce(&mut Client, Instant) -> Result<lantern_ssh::ChannelId, SshError>,
    ) -> Result<Channel, LinkError> {
        let mut state = self.shared().lock();
        let id = open(&mut state.client, Instant::now()).map_err(|error| self.lost(error))?;
        state.add_channel(id);
        self.shared().wake_driver();
        // Dropped before it is open, it is given up.
        Ok(Channel::new(self.handle.clone(), id))
    }

    async fn wait_for_opening(
        &self,
        channel: Channel,
        what: &'static str,
    ) -> Result<Result<Channel, OpenFailure>, LinkError> {
        match timeout(self.answer_limit(), channel.opened()).await {
            Ok(Ok(Ok(()))) => Ok(Ok(channel)),
            Ok(Ok(Err(failure))) => Ok(Err(failure)),
            Ok(Err(error)) => Err(error),
            Err(_) => Err(self.unanswered(what)),
        }
    }

    /// Lets the machine come back for something that was forwarded to it, until what this returns is dropped.
    pub fn grant(&self, grant: Grant, uses: Uses) -> Granted {
        if matches!(grant, Grant::Display(_)) {
            let mut state = self.shared().lock();
            if state.displays.is_none() {
                let (displays, opened) = tokio::sync::mpsc::channel(grants::WAITING);
                state.displays = Some(displays);
                tokio::spawn(displays::admit(opened));
            }
        }
        Granted::new(self.handle.shared.clone(), grant, uses)
    }

    /// Whether the machine gives a sign of life within this time: it is asked for one.
    pub async fn is_alive(&self, within: Duration) -> bool {
        let asked = Instant::now();
        {
            let mut state = self.shared().lock();
            if state.client.ask_for_life(asked).is_err() {
                return false;
            }
            self.shared().wake_driver();
        }
        loop {
            let (idle, waited) = (self.account().idle, asked.elapsed());
            if idle < waited {
                return self.ended_by().is_none();
            }
            if waited >= within || self.ended_by().is_some() {
                return false;
            }
            tokio::time::sleep(LOOK_AGAIN).await;
        }
    }

    /// How many have a part in it: handles, this one too, and channels.
    pub fn parts(&self) -> usize {
        Arc::strong_count(&self.handle)
    }

    /// Whether it is the same connection.
    pub fn is_same(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.handle, &other.handle)
    }

    /// Ends the connection for everybody who has a part in it, who are told why, with a goodbye that nobody waits for.
    pub fn end(&self, why: &'static str) {
        self.shared().lock().lose(SshError::Given(why));
        self.shared().abandon();
    }

    /// What ended the connection, once something has.
    pub fn ended_by(&self) -> Option<LinkError> {
        let ended = self.shared().lock().ended_by();
        ended.map(|error| self.lost(error))
    }

    /// Waits until the connection has ended; why.
    pub async fn ended(&self) -> LinkError {
        std::future::poll_fn(|cx| {
            let mut state = self.shared().lock();
            match state.ended_by() {
                Some(error) => std::task::Poll::Ready(self.lost(error)),
                None => {
                    state.wait(cx, Waits::Global);
                    std::task::Poll::Pending
                }
            }
        })
        .await
    }

    async fn over(&self) {
        std::future::poll_fn(|cx| {
            let mut state = self.shared().lock();
            match state.is_over {
                true => std::task::Poll::Ready(()),
                false => {
                    state.wait(cx, Waits::Over);
                    std::task::Poll::Pending
                }
            }
        })
        .await;
    }

    /// Asks the machine to prove that it holds these keys of its announcement.
    pub(crate) fn prove_host_keys(&self, keys: Vec<PublicKey>) {
        let mut state = self.shared().lock();
        // What fails here ends the connection for everybody, who hear of it then; or a proof is under way.
        let _ = state.client.prove_host_keys(keys);
        self.shared().wake_driver();
    }

    /// What the machine proved to be.
    pub fn host_key(&self) -> Option<PublicKey> {
        self.shared().lock().client.host_key().cloned()
    }

    pub(crate) fn note_rotation(&self, rotation: Rotation) {
        self.shared().lock().rotations.push(rotation);
    }

    /// What is said outside channels from now on goes there.
    pub(crate) fn hear_announcements(
        &self,
        to: tokio::sync::mpsc::UnboundedSender<lantern_ssh::GlobalEvent>,
    ) {
        let mut state = self.shared().lock();
        state.announcements = Some(to);
        state.distribute();
    }

    /// What the machine's announcements of host keys have changed in the trust store, told once.
    pub fn take_rotations(&self) -> Vec<Rotation> {
        std::mem::take(&mut self.shared().lock().rotations)
    }

    /// Says goodbye and closes, within a second. Channels that are still there end.
    pub async fn close(self) {
        self.shared().abandon();
        self.over().await;
    }

    /// How long the machine may take to answer something that it is asked for.
    pub fn answer_limit(&self) -> Duration {
        self.shared().to.answer_time
    }

    fn lost(&self, source: SshError) -> LinkError {
        self.shared().lost(source)
    }

    fn unanswered(&self, what: &'static str) -> LinkError {
        self.shared().unanswered(what)
    }
}

impl std::fmt::Debug for Trunk {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Trunk").field("machine", &self.machine()).field("user", &self.user()).finish()
    }
}

/// A trunk that does not keep the connection alive.
pub(crate) struct WeakTrunk(Weak<Handle>);

impl WeakTrunk {
    pub(crate) fn upgrade(&self) -> Option<Trunk> {
        self.0.upgrade().map(|handle| Trunk { handle, early: Early::default() })
    }
}
