//! A holder: the tunnels of a process, and its socket.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use lantern_book::{Home, TunnelEnd};
use lantern_link::{Listener, LocalStream};
use lantern_operations::tunnel::Tunnels;
use tokio::net::UnixStream;
use tokio::sync::Semaphore;
use tokio::time::timeout;
use tracing::debug;

use super::messages::{HolderAnswer, HolderRequest, MachineReport, VERSION, Versioned};
use super::{FOLDER, frames};
use crate::service::is_ours;

/// Most that ask at once.
const MAX_CONNECTIONS: usize = 32;
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

    /// Closes tunnels: of this machine or of all, of these names or all. Which, each with its machine.
    pub fn close(&self, machine: Option<&str>, names: &[String]) -> Vec<(String, String)> {
        let mut closed = Vec::new();
        let mut held = self.held();
        for one in held.iter_mut().filter(|one| machine.is_none_or(|machine| machine == one.machine)) {
            closed.extend(one.tunnels.close(names).into_iter().map(|name| (one.machine.clone(), name)));
        }
        held.retain(|one| !one.tunnels.are_closed());
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

    /// Answers on a socket of its own, until this is dropped. What it cannot listen on is no reason not to hold tunnels.
    pub async fn serve(&self, home: &Home) {
        let folder = match home.folder(FOLDER) {
            Ok(folder) => folder,
            Err(error) => {
                debug!(%error, "nobody can ask for the tunnels of this process");
                return;
            }
        };
        let name = if self.is_keeper { "keeper".to_owned() } else { std::process::id().to_string() };
        let at = TunnelEnd::Unix(folder.join(format!("{name}.sock")).display().to_string());
        let listener = match Listener::bind(&at).await {
            Ok(listener) => listener,
            Err(error) => {
                debug!(%error, "nobody can ask for the tunnels of this process");
                return;
            }
        };
        let places = Arc::new(Semaphore::new(MAX_CONNECTIONS));
        loop {
            match listener.accept().await {
                Ok(LocalStream::Unix(stream)) if is_ours(&stream) => {
                    let Ok(place) = places.clone().try_acquire_owned() else { continue };
                    let holder = self.clone();
                    tokio::spawn(async move {
                        holder.answer(stream).await;
                        drop(place);
                    });
                }
                Ok(_) => debug!("turned away"),
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    }

    async fn answer(&self, mut stream: UnixStream) {
        let asked = timeout(PATIENCE, frames::read::<Versioned<HolderRequest>>(&mut stream)).await;
        let Ok(Ok(Some(Versioned { version, request }))) = asked else {
            // What cannot even be read is of another version.
            let _ = frames::write(&mut stream, &HolderAnswer::OtherVersion(VERSION)).await;
            return;
        };
        let answer = match request {
            _ if version != VERSION => HolderAnswer::OtherVersion(VERSION),
            HolderRequest::Status => HolderAnswer::Status(self.reports()),
            HolderRequest::Close { machine, names } => {
                HolderAnswer::Closed(self.close(machine.as_deref(), &names))
            }
            HolderRequest::Probe { machine, names } => {
                self.probe(machine.as_deref(), &names).await;
                HolderAnswer::Status(self.reports())
            }
        };
        let _ = timeout(PATIENCE, frames::write(&mut stream, &answer)).await;
    }
}
