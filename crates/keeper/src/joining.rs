//! How programs join a connection that the keeper holds, and hand it tunnels to keep.

use std::io;
use std::path::PathBuf;

use lantern_book::Home;
use lantern_link::{Ask, ConnectRequest, Explained, Finding, LinkError, Shares, Trunk};
use lantern_ssh::Joining;
use serde::de::DeserializeOwned;
use tokio::net::UnixStream;
use tracing::debug;

use crate::holder::{HolderRequest, MachineReport, VERSION, Versioned, keeper_socket};
use crate::outcomes::{JoinOutcome, KeepOutcome};
use crate::talk::{KeyForm, Talk, attend};
use crate::wanted::{Keeping, Wanted};

/// Why tunnels were not handed over.
#[derive(Debug, thiserror::Error)]
pub enum KeepError {
    /// There is no keeper that could keep them.
    #[error("the keeper does not run")]
    NotRunning,
    /// It is of another version, or something else.
    #[error("the keeper that runs is of another version of lantern")]
    OtherVersion,
    /// It could not open them.
    #[error("{}", .0.headline)]
    Failed(Explained),
}

enum Asked<T> {
    NoKeeper,
    Odd(io::Error),
    Outcome(T, Talk),
}

async fn ask_keeper<T: DeserializeOwned>(home: &Home, request: HolderRequest, ask: &dyn Ask) -> Asked<T> {
    let Ok(stream) = UnixStream::connect(keeper_socket(home)).await else { return Asked::NoKeeper };
    let mut talk = Talk::new(stream);
    let message = Versioned { version: VERSION, request };
    let outcome = attend(&mut talk, &message, ask)
        .await
        .and_then(|outcome| serde_json::from_value(outcome).map_err(io::Error::other));
    match outcome {
        Ok(outcome) => Asked::Outcome(outcome, talk),
        Err(error) => Asked::Odd(error),
    }
}

/// Whether a keeper runs that holds connections.
pub fn has_connections(home: &Home) -> bool {
    std::os::unix::net::UnixStream::connect(keeper_socket(home)).is_ok()
}

/// Whether a keeper runs that holds keys and nothing else: one of an older version.
pub fn is_older(home: &Home) -> bool {
    let answers = |path: PathBuf| std::os::unix::net::UnixStream::connect(path).is_ok();
    answers(crate::socket_path(home)) && !has_connections(home)
}

/// Connections that the keeper holds; none, where it does not run.
#[derive(Debug)]
pub struct KeeperShares {
    home: Home,
    /// The machine, as it was typed: what is said of it names it so.
    typed: String,
}

impl KeeperShares {
    /// Those of a home.
    pub fn new(home: &Home, typed: &str) -> Self {
        Self { home: home.clone(), typed: typed.to_owned() }
    }

    async fn join(&self, request: &ConnectRequest, ask: &dyn Ask) -> Option<Result<Trunk, LinkError>> {
        let at_hand = ask.password_at_hand(&request.machine).then(|| request.machine.clone());
        let wanted = Wanted::new(&self.typed, request, at_hand)?;
        match ask_keeper(&self.home, HolderRequest::Join(Box::new(wanted)), ask).await {
            Asked::NoKeeper => None,
            Asked::Odd(error) => {
                debug!(%error, "the keeper is not joined");
                None
            }
            Asked::Outcome(JoinOutcome::NotNow(why), _) => {
                debug!(why, "the keeper is not joined");
                None
            }
            Asked::Outcome(JoinOutcome::Failed(explained), _) => {
                Some(Err(LinkError::Elsewhere(Box::new(explained))))
            }
            Asked::Outcome(JoinOutcome::Joined(form), talk) => {
                debug!(machine = request.machine, "joined a connection of the keeper");
                let to = Joining {
                    algorithms: form.algorithms(),
                    host_key: form.host_key.as_ref().and_then(KeyForm::key),
                    identification: form.identification,
                    is_strict: form.is_strict,
                };
                let (stream, _) = talk.into_parts();
                let limit = request.limits.login;
                Some(Trunk::join(Box::new(stream), &request.machine, &request.user, limit, to))
            }
        }
    }
}

impl Shares for KeeperShares {
    fn find<'a>(&'a self, request: &'a ConnectRequest, ask: &'a dyn Ask) -> Finding<'a> {
        Box::pin(self.join(request, ask))
    }
}

/// Hands tunnels over to the keeper, which keeps them up from then on; how they stand.
///
/// # Errors
/// [`KeepError`].
pub async fn keep(home: &Home, keeping: &Keeping, ask: &dyn Ask) -> Result<MachineReport, KeepError> {
    match ask_keeper(home, HolderRequest::Keep(Box::new(keeping.clone())), ask).await {
        Asked::NoKeeper if is_older(home) => Err(KeepError::OtherVersion),
        Asked::NoKeeper => Err(KeepError::NotRunning),
        Asked::Odd(_) => Err(KeepError::OtherVersion),
        Asked::Outcome(KeepOutcome::Kept(report), _) => Ok(*report),
        Asked::Outcome(KeepOutcome::Failed(explained), _) => Err(KeepError::Failed(explained)),
    }
}
