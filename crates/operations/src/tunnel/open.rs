//! Opening tunnels of one machine: listeners first, so that nothing is dialed for a port that cannot be had.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use lantern_book::TunnelKind;
use lantern_link::{ListenError, Listener, TunnelLogin};
use lantern_ssh::limits::MAX_CHANNELS;
use tokio::sync::Semaphore;
use tokio::task::{AbortHandle, JoinHandle, JoinSet};

use super::behind::{probe_here, probe_there};
use super::board::Board;
use super::callers::Entrance;
use super::inward::Exit;
use super::upkeep::{Connect, Persistence, keep_up};
use super::{LinkPhase, TunnelPlan};
use crate::OperationError;

/// How long callers are held where nothing says, in seconds: a restart of a machine's service takes less.
const HOLD: u64 = 30;
/// Callers of all tunnels of a link at once: the channels that a connection may have, less some for everything else.
const MAX_CALLERS: usize = MAX_CHANNELS - 96;

/// What is to be opened, and how.
pub struct TunnelsRequest {
    /// The tunnels.
    pub plans: Vec<TunnelPlan>,
    /// Makes the connection.
    pub connect: Connect,
    /// How long it is tried for.
    pub persistence: Persistence,
    /// How long callers wait for a link, for tunnels that don't say.
    pub hold: Option<Duration>,
    /// What callers of dynamic tunnels must present.
    pub login: Option<TunnelLogin>,
    /// Whether to find out what is behind them.
    pub probe: bool,
}

/// A tunnel that cannot be opened here.
#[derive(Debug, thiserror::Error)]
#[error("the tunnel {name} cannot be opened")]
pub struct OpenFailure {
    /// Its name.
    pub name: String,
    /// Why.
    pub source: ListenError,
}

/// Tunnels that are open. Dropped, they are closed, and everything that goes through them with them.
#[derive(Debug)]
pub struct Tunnels {
    board: Arc<Board>,
    /// By the number of the tunnel that each works for.
    tasks: Vec<(usize, JoinHandle<()>)>,
    upkeep: AbortHandle,
}

/// The end of the trying: why nothing more is tried.
#[derive(Debug)]
pub struct Ending(JoinHandle<OperationError>);

impl Future for Ending {
    type Output = OperationError;

    fn poll(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<OperationError> {
        match Pin::new(&mut self.0).poll(cx) {
            Poll::Ready(Ok(error)) => Poll::Ready(error),
            // The tunnels were dropped: nobody is to hear of an error.
            Poll::Ready(Err(_)) | Poll::Pending => Poll::Pending,
        }
    }
}

impl Drop for Tunnels {
    fn drop(&mut self) {
        self.tasks.iter().for_each(|(_, task)| task.abort());
        self.upkeep.abort();
        self.board.set_link(None);
    }
}

/// Opens tunnels. The link is made, watched over and made again in the background. Must be called within a runtime.
///
/// # Errors
/// [`OpenFailure`]: then nothing is open.
pub async fn open(request: TunnelsRequest) -> Result<(Tunnels, Ending), OpenFailure> {
    let mut listeners = Vec::new();
    for plan in &request.plans {
        listeners.push(match plan.tunnel.kind {
            TunnelKind::Remote => None,
            TunnelKind::Local | TunnelKind::Dynamic => {
                let bound = Listener::bind(&plan.tunnel.listen).await;
                Some(bound.map_err(|source| OpenFailure { name: plan.name.clone(), source })?)
            }
        });
    }
    let board = Arc::new(Board::new(&request.plans));
    let places = Arc::new(Semaphore::new(MAX_CALLERS));
    let mut tasks = Vec::new();
    for (index, (plan, listener)) in request.plans.iter().zip(listeners).enumerate() {
        let counts = board.counts(index);
        let tunnel = &plan.tunnel;
        match (listener, &tunnel.to) {
            (Some(listener), to) => {
                board.ready(index, listener.at().clone());
                let usual = request.hold.unwrap_or(Duration::from_secs(HOLD));
                let entrance = Entrance {
                    index,
                    board: board.clone(),
                    counts,
                    to: to.clone(),
                    hold: tunnel.hold.map_or(usual, Duration::from_secs),
                    login: request.login.clone(),
                    places: places.clone(),
                };
                tasks.push((index, tokio::spawn(Arc::new(entrance).attend(listener))));
            }
            (None, Some(to)) => {
                let (listen, to) = (tunnel.listen.clone(), to.clone());
                let exit = Exit { index, board: board.clone(), counts, listen, to };
                tasks.push((index, tokio::spawn(Arc::new(exit).attend())));
            }
            (None, None) => {}
        }
        if request.probe {
            tasks.push((index, tokio::spawn(look_behind(board.clone(), index))));
        }
    }
    let upkeep = tokio::spawn(keep_up(request.connect, board.clone(), request.persistence));
    Ok((Tunnels { board, tasks, upkeep: upkeep.abort_handle() }, Ending(upkeep)))
}

/// Finds out what is behind a tunnel, as soon as there is a link.
async fn look_behind(board: Arc<Board>, index: usize) {
    let Some(plan) = board.plan(index) else { return };
    let Some(to) = &plan.tunnel.to else { return };
    let mut link = board.link();
    let trunk = match link.wait_for(Option::is_some).await {
        Ok(trunk) => trunk.clone(),
        Err(_) => return,
    };
    let Some(trunk) = trunk else { return };
    let behind = match plan.tunnel.kind {
        TunnelKind::Remote => probe_here(to).await,
        TunnelKind::Local | TunnelKind::Dynamic => probe_there(&trunk, to).await,
    };
    board.set_behind(index, behind);
}

impl Tunnels {
    /// What there is to tell of them.
    pub fn board(&self) -> &Arc<Board> {
        &self.board
    }

    /// Closes those of these names, and everything that goes through them; all, when there are none. Their names, and what ends once their ports and sockets
    /// are free again; it can be awaited without them.
    pub fn close(&mut self, names: &[String]) -> (Vec<String>, impl Future<Output = ()> + Send + 'static) {
        let numbers = self.board.numbers(names);
        let mut ending = Vec::new();
        for (number, task) in std::mem::take(&mut self.tasks) {
            match numbers.contains(&number) {
                true => {
                    task.abort();
                    ending.push(task);
                }
                false => self.tasks.push((number, task)),
            }
        }
        numbers.iter().for_each(|number| self.board.close(*number));
        let names = numbers.iter().filter_map(|number| Some(self.board.plan(*number)?.name)).collect();
        let ended = async move {
            for task in ending {
                let _ = task.await;
            }
        };
        (names, ended)
    }

    /// Finds out anew what is behind those of these names; all, when there are none. What this returns can be awaited without them.
    pub fn probe(&self, names: &[String]) -> impl Future<Output = ()> + Send + 'static {
        let board = self.board.clone();
        let numbers = board.numbers(names);
        async move {
            let mut looks = JoinSet::new();
            for number in numbers {
                looks.spawn(look_behind(board.clone(), number));
            }
            while looks.join_next().await.is_some() {}
        }
    }

    /// Whether all of them were closed.
    pub fn are_closed(&self) -> bool {
        self.board.numbers(&[]).is_empty()
    }

    /// Whether nothing more is tried.
    pub fn is_over(&self) -> bool {
        self.board.status().phase == LinkPhase::Over
    }
}
