//! A holder: the tunnels of a process, and its socket.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use lantern_book::{Home, TunnelEnd};
use lantern_link::{Listener, LocalStream};
use lantern_operations::tunnel::{LinkPhase, TunnelState, Tunnels};
use tokio::net::UnixStream;
use tokio::sync::Semaphore;
use tokio::time::timeout;
use tracing::debug;

use super::FOLDER;
use super::beside::Beside;
use super::messages::{HolderAnswer, HolderRequest, MachineReport, VERSION, Versioned};
use crate::peer::is_ours;
use crate::talk::Talk;

/// Most that ask at once.
const MAX_CONNECTIONS: usize = 512;
/// How long a list shows tunnels that nothing more is tried for.
const SHOWN_WHEN_OVER: Duration = Duration::from_secs(24 * 3600);
/// How long whoever asks may take to do so.
const PATIENCE: Duration = Duration::from_secs(5);

/// The tunnels of one machine that are held.
#[derive(Debug)]
pub struct Held {
    /// The machine, as the user calls it.
    pub machine: String,
    /// The tunnels.
    pub tunnels: Tunnels,
}

/// All tunnels of a process. Clones are the same.
#[derive(Debug, Clone)]
pub struct Holder {
    held: Arc<Mutex<Vec<Held>>>,
    is_keeper: bool,
}

/// The socket of a holder; none, where it cannot be had.
pub(crate) async fn listen(home: &Home, name: &str) -> Option<Listener> {
    let folder = home.folder(FOLDER).map_err(|error| debug!(%error, "no folder for sockets")).ok()?;
    let at = TunnelEnd::Unix(folder.join(format!("{name}.sock")).display().to_string());
    let listener = Listener::bind(&at).await;
    listener.map_err(|error| debug!(%error, "nobody can ask for the tunnels of this process")).ok()
}

impl Holder {
    /// One that holds nothing yet.
    pub fn new(is_keeper: bool) -> Self {
        Self { held: Arc::default(), is_keeper }
    }

    fn held(&self) -> MutexGuard<'_, Vec<Held>> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Holds tunnels from now on.
    pub fn take(&self, held: Held) {
        self.held().push(held);
    }

    /// Closes everything.
    pub fn close_all(&self) {
        let all = std::mem::take(&mut *self.held());
        drop(all);
    }

    /// How everything stands.
    pub fn reports(&self) -> Vec<MachineReport> {
        let process = std::process::id();
        let report = |held: &Held| MachineReport {
            machine: held.machine.clone(),
            process,
            is_kept: self.is_keeper,
            status: held.tunnels.board().status(),
        };
        self.held().iter().map(report).collect()
    }

    /// Closes tunnels: of this machine or of all, of these names or all. Which, each with its machine, once their ports and sockets are free again.
    pub async fn close(&self, machine: Option<&str>, names: &[String]) -> Vec<(String, String)> {
        let (mut closed, mut endings) = (Vec::new(), Vec::new());
        {
            let mut held = self.held();
            for one in held.iter_mut().filter(|one| machine.is_none_or(|machine| machine == one.machine)) {
                let (names, ended) = one.tunnels.close(names);
                closed.extend(names.into_iter().map(|name| (one.machine.clone(), name)));
                endings.push(ended);
            }
            held.retain(|one| !one.tunnels.are_closed());
        }
        for ended in endings {
            ended.await;
        }
        closed
    }

    async fn probe(&self, machine: Option<&str>, names: &[String]) {
        let looks: Vec<_> = self
            .held()
            .iter()
            .filter(|one| machine.is_none_or(|machine| machine == one.machine))
            .map(|one| one.tunnels.probe(names))
            .collect();
        for look in looks {
            look.await;
        }
    }

    /// The names of those of a machine.
    pub(crate) fn names(&self, machine: &str) -> Vec<String> {
        let held = self.held();
        let of_machine = held.iter().filter(|held| held.machine == machine);
        of_machine
            .flat_map(|held| held.tunnels.board().status().tunnels)
            .filter(|tunnel| !matches!(tunnel.state, TunnelState::Closed | TunnelState::Over))
            .map(|tunnel| tunnel.name)
            .collect()
    }

    /// Lets go of those of a machine that nothing more is tried for: they are opened anew.
    pub(crate) fn drop_over(&self, machine: &str) {
        self.held()
            .retain(|held| held.machine != machine || held.tunnels.board().status().phase != LinkPhase::Over);
    }

    /// Lets go of those that nothing more is tried for, a while after that has shown: until then a list says why.
    pub(crate) fn forget_over(&self) {
        self.held().retain(|held| {
            let status = held.tunnels.board().status();
            status.phase != LinkPhase::Over || status.since < SHOWN_WHEN_OVER
        });
    }

    /// Answers on a socket of its own, until this is dropped. What it cannot listen on is no reason not to hold tunnels.
    pub async fn serve(&self, home: &Home) {
        if let Some(listener) = listen(home, &std::process::id().to_string()).await {
            self.serve_with(listener, None).await;
        }
    }

    /// The same, with what is done beside that.
    pub(crate) async fn serve_with(&self, listener: Listener, beside: Option<Arc<dyn Beside>>) {
        let places = Arc::new(Semaphore::new(MAX_CONNECTIONS));
        loop {
            match listener.accept().await {
                Ok(LocalStream::Unix(stream)) if is_ours(&stream) => {
                    let Ok(place) = places.clone().try_acquire_owned() else { continue };
                    let (holder, beside) = (self.clone(), beside.clone());
                    tokio::spawn(async move {
                        holder.answer(stream, beside).await;
                        drop(place);
                    });
                }
                Ok(_) => debug!("turned away"),
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    }

    async fn answer(&self, stream: UnixStream, beside: Option<Arc<dyn Beside>>) {
        let mut talk = Talk::new(stream);
        let asked = timeout(PATIENCE, talk.read::<Versioned<HolderRequest>>()).await;
        let request = match asked {
            Ok(Ok(Some(asked))) if asked.message.version == VERSION => asked.message.request,
            // What cannot even be read is of another version.
            _ => {
                let _ = talk.write(&HolderAnswer::OtherVersion(VERSION), &[]).await;
                return;
            }
        };
        let answer = match (request, beside) {
            (HolderRequest::Status, _) => HolderAnswer::Status(self.reports()),
            (HolderRequest::Close { machine, names }, _) => {
                HolderAnswer::Closed(self.close(machine.as_deref(), &names).await)
            }
            (HolderRequest::Probe { machine, names }, _) => {
                self.probe(machine.as_deref(), &names).await;
                HolderAnswer::Status(self.reports())
            }
            (HolderRequest::Join(wanted), Some(beside)) => return beside.join(*wanted, talk).await,
            (HolderRequest::Keep(keeping), Some(beside)) => return beside.keep(*keeping, talk).await,
            (HolderRequest::Links, Some(beside)) => HolderAnswer::Links(beside.links()),
            (_, None) => HolderAnswer::NotHere,
        };
        let _ = timeout(PATIENCE, talk.write(&answer, &[])).await;
    }
}
