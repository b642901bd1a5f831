//! What there is to tell of the tunnels of one machine, while they are open.

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use lantern_book::{Tunnel, TunnelEnd, TunnelKind};
use lantern_link::{Meter, Trunk};
use serde::{Deserialize, Serialize};
use tokio::sync::watch;

use super::{Behind, TunnelPlan};

/// The link that the tunnels go through.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum LinkPhase {
    /// It is being made.
    Connecting,
    /// It is there.
    Up,
    /// It is made again after a pause, or when the network says so.
    Waiting,
    /// Nothing more is tried.
    Over,
}

/// How a tunnel stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum TunnelState {
    /// It is being opened.
    Opening,
    /// It carries.
    Carries,
    /// There is no link; callers are held.
    Holds,
    /// It does not carry, for this reason; others may.
    Fails(String),
    /// It was closed.
    Closed,
    /// Nothing more is tried.
    Over,
}

/// One tunnel as it stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TunnelStatus {
    /// Its name.
    pub name: String,
    /// What it is, in the words of the book.
    pub form: String,
    /// How it stands.
    pub state: TunnelState,
    /// Since when.
    pub since: Duration,
    /// Where it listens, in the words of the book, with the port that was chosen.
    pub at: Option<String>,
    /// Connections that go through it now.
    pub open: usize,
    /// All that have.
    pub total: u64,
    /// Bytes to the machine.
    pub to_machine: u64,
    /// Bytes from the machine.
    pub from_machine: u64,
    /// What answers behind it.
    pub behind: Option<Behind>,
    /// What went wrong last with one of its connections.
    pub last_error: Option<String>,
}

/// The link and its tunnels as they stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LinkStatus {
    /// The link.
    pub phase: LinkPhase,
    /// How soon it is tried again, where it waits.
    pub again_in: Option<Duration>,
    /// Since when.
    pub since: Duration,
    /// How many times it was lost.
    pub losses: u32,
    /// Its last round trip.
    pub round_trip: Option<Duration>,
    /// What went wrong last.
    pub last_error: Option<String>,
    /// The tunnels.
    pub tunnels: Vec<TunnelStatus>,
}

/// What is counted of one tunnel.
#[derive(Debug, Default)]
pub(super) struct Counts {
    pub(super) open: AtomicUsize,
    pub(super) total: AtomicU64,
    pub(super) meter: Meter,
}

impl TunnelStatus {
    /// What it is.
    pub fn tunnel(&self) -> Option<Tunnel> {
        Tunnel::parse(&self.form).ok()
    }

    /// Where it listens.
    pub fn listens(&self) -> Option<TunnelEnd> {
        Tunnel::parse_end(self.at.as_deref()?, true).ok()
    }
}

struct Entry {
    plan: TunnelPlan,
    at: Option<TunnelEnd>,
    /// Why it does not carry, where the reason is its own.
    trouble: Option<String>,
    /// Whether it is ready as soon as there is a link.
    is_ready: bool,
    is_closed: bool,
    since: Instant,
    behind: Option<Behind>,
    last_error: Option<String>,
    counts: Arc<Counts>,
}

struct State {
    phase: LinkPhase,
    again_at: Option<Instant>,
    since: Instant,
    losses: u32,
    last_error: Option<String>,
    entries: Vec<Entry>,
}

/// Where everything that happens is written down, and read by whoever shows it.
pub struct Board {
    state: Mutex<State>,
    changes: watch::Sender<u64>,
    link: watch::Sender<Option<Trunk>>,
}

impl std::fmt::Debug for Board {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Board").field("phase", &self.state().phase).finish_non_exhaustive()
    }
}

impl Board {
    pub(super) fn new(plans: &[TunnelPlan]) -> Self {
        let now = Instant::now();
        let entry = |plan: &TunnelPlan| Entry {
            plan: plan.clone(),
            at: None,
            trouble: None,
            is_ready: false,
            is_closed: false,
            since: now,
            behind: None,
            last_error: None,
            counts: Arc::default(),
        };
        let state = State {
            phase: LinkPhase::Connecting,
            again_at: None,
            since: now,
            losses: 0,
            last_error: None,
            entries: plans.iter().map(entry).collect(),
        };
        Self { state: Mutex::new(state), changes: watch::Sender::new(0), link: watch::Sender::new(None) }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self, change: impl FnOnce(&mut State)) {
        change(&mut self.state());
        self.changes.send_modify(|number| *number += 1);
    }

    fn change_one(&self, index: usize, change: impl FnOnce(&mut Entry)) {
        self.change(|state| {
            if let Some(entry) = state.entries.get_mut(index) {
                change(entry);
            }
        });
    }

    /// Hears of changes; not of bytes that pass.
    pub fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// The connection, while there is one.
    pub(super) fn link(&self) -> watch::Receiver<Option<Trunk>> {
        self.link.subscribe()
    }

    pub(super) fn counts(&self, index: usize) -> Arc<Counts> {
        self.state().entries.get(index).map(|entry| entry.counts.clone()).unwrap_or_default()
    }

    /// The link is tried again after this pause.
    pub(super) fn wait(&self, pause: Duration, error: String) {
        self.set_phase(LinkPhase::Waiting, Some(error));
        self.state().again_at = Some(Instant::now() + pause);
    }

    pub(super) fn set_phase(&self, phase: LinkPhase, error: Option<String>) {
        let now = Instant::now();
        self.change(|state| {
            if (state.phase == LinkPhase::Up) != (phase == LinkPhase::Up) {
                state.since = now;
                state.entries.iter_mut().for_each(|entry| entry.since = now);
            }
            if state.phase == LinkPhase::Up && phase != LinkPhase::Up {
                state.losses += 1;
                // What listens at the machine went with the link, until it is asked for again.
                let there = |entry: &&mut Entry| entry.plan.tunnel.kind == TunnelKind::Remote;
                state.entries.iter_mut().filter(there).for_each(|entry| entry.is_ready = false);
            }
            (state.phase, state.again_at) = (phase, None);
            state.last_error = error.or_else(|| state.last_error.take()).filter(|_| phase != LinkPhase::Up);
        });
    }

    /// There is a connection, or none any more.
    pub(super) fn set_link(&self, trunk: Option<Trunk>) {
        self.link.send_replace(trunk);
    }

    /// It listens there.
    pub(super) fn ready(&self, index: usize, at: TunnelEnd) {
        self.change_one(index, |entry| {
            (entry.at, entry.trouble, entry.is_ready, entry.since) = (Some(at), None, true, Instant::now());
        });
    }

    /// It does not carry, for a reason of its own.
    pub(super) fn fails(&self, index: usize, why: String) {
        self.change_one(index, |entry| {
            (entry.trouble, entry.is_ready, entry.since) = (Some(why), false, Instant::now());
        });
    }

    /// It was closed.
    pub(super) fn close(&self, index: usize) {
        self.change_one(index, |entry| (entry.is_closed, entry.since) = (true, Instant::now()));
    }

    pub(super) fn plan(&self, index: usize) -> Option<TunnelPlan> {
        self.state().entries.get(index).map(|entry| entry.plan.clone())
    }

    /// The numbers of those with these names that are not closed; of all, when there are none.
    pub(super) fn numbers(&self, names: &[String]) -> Vec<usize> {
        let state = self.state();
        let wanted =
            |entry: &Entry| !entry.is_closed && (names.is_empty() || names.contains(&entry.plan.name));
        state
            .entries
            .iter()
            .enumerate()
            .filter(|(_, entry)| wanted(entry))
            .map(|(number, _)| number)
            .collect()
    }

    pub(super) fn set_behind(&self, index: usize, behind: Behind) {
        self.change_one(index, |entry| entry.behind = Some(behind));
    }

    pub(super) fn behind(&self, index: usize) -> Option<Behind> {
        self.state().entries.get(index).and_then(|entry| entry.behind.clone())
    }

    /// Something went wrong with one of its connections.
    pub(super) fn note(&self, index: usize, error: String) {
        self.change_one(index, |entry| entry.last_error = Some(error));
    }

    /// Everything as it stands.
    pub fn status(&self) -> LinkStatus {
        let round_trip = self.link.borrow().as_ref().and_then(|trunk| trunk.account().statistics.round_trip);
        let state = self.state();
        let one = |entry: &Entry| TunnelStatus {
            name: entry.plan.name.clone(),
            form: entry.plan.tunnel.to_string(),
            state: match (&entry.trouble, state.phase, entry.is_ready) {
                _ if entry.is_closed => TunnelState::Closed,
                (_, LinkPhase::Over, _) => TunnelState::Over,
                (Some(why), _, _) => TunnelState::Fails(why.clone()),
                (None, LinkPhase::Up, true) => TunnelState::Carries,
                (None, _, _) if state.losses == 0 => TunnelState::Opening,
                (None, LinkPhase::Up, false) => TunnelState::Opening,
                (None, _, _) => TunnelState::Holds,
            },
            since: entry.since.elapsed(),
            at: entry.at.as_ref().map(ToString::to_string),
            open: entry.counts.open.load(Ordering::Relaxed),
            total: entry.counts.total.load(Ordering::Relaxed),
            to_machine: entry.counts.meter.to_machine.load(Ordering::Relaxed),
            from_machine: entry.counts.meter.from_machine.load(Ordering::Relaxed),
            behind: entry.behind.clone(),
            last_error: entry.last_error.clone(),
        };
        LinkStatus {
            phase: state.phase,
            again_in: state.again_at.map(|at| at.saturating_duration_since(Instant::now())),
            since: state.since.elapsed(),
            losses: state.losses,
            round_trip,
            last_error: state.last_error.clone(),
            tunnels: state.entries.iter().map(one).collect(),
        }
    }

    /// Waits until every tunnel carries, or one is known not to.
    pub async fn settled(&self) -> LinkStatus {
        let mut changes = self.changes();
        loop {
            let status = self.status();
            let settled =
                |tunnel: &TunnelStatus| !matches!(tunnel.state, TunnelState::Opening | TunnelState::Holds);
            if status.tunnels.iter().all(settled) || changes.changed().await.is_err() {
                return status;
            }
        }
    }
}
