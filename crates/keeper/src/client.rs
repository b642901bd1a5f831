//! How commands reach the keeper.

use std::io::ErrorKind;
use std::path::PathBuf;

use lantern_book::Home;
use lantern_keys::wire::WireError;
use lantern_keys::{SecretBytes, SecretString};
use lantern_link::{AgentClient, AgentError, AgentSocket};
use lantern_ssh::agent::{AgentRequest, AgentResponse};

use zeroize::Zeroizing;

use crate::passwords::{DISOWN, RECALL, REMEMBER, Remember, question};
use crate::status::{STATUS, STOP, Status};
use crate::{passwords_path, socket_path};

/// Why the keeper did not do what it was asked to.
#[derive(Debug, thiserror::Error)]
pub enum KeeperError {
    /// It does not run.
    #[error("the keeper does not run")]
    NotRunning,
    /// The socket, or what came over it.
    #[error(transparent)]
    Agent(#[from] AgentError),
    /// Something else listens on its socket.
    #[error("what listens on the keeper's socket is not the keeper")]
    NotTheKeeper,
    /// Its answer is none that it gives.
    #[error("the keeper answers oddly")]
    Odd(#[from] WireError),
    /// It said no.
    #[error("the keeper would not {what}")]
    Refused {
        /// What it was asked to do.
        what: String,
    },
}

/// Connects to the keeper; none when it does not run.
///
/// # Errors
/// What the system says but for "nobody is there".
pub async fn find(home: &Home) -> Result<Option<AgentClient>, KeeperError> {
    find_at(socket_path(home)).await
}

async fn find_at(path: PathBuf) -> Result<Option<AgentClient>, KeeperError> {
    let socket = AgentSocket { path, what: "the keeper" };
    match AgentClient::connect(&socket).await {
        Ok(client) => Ok(Some(client)),
        Err(AgentError::Io { source, .. })
            if matches!(source.kind(), ErrorKind::NotFound | ErrorKind::ConnectionRefused) =>
        {
            Ok(None)
        }
        Err(error) => Err(error.into()),
    }
}

/// Its state; none when it does not run.
///
/// # Errors
/// What the socket says; an agent that is not our keeper.
pub async fn status(home: &Home) -> Result<Option<Status>, KeeperError> {
    let request = AgentRequest::Extension { name: STATUS.into(), content: Vec::new() };
    // What it holds of passwords is told there alone.
    let running = match find_at(passwords_path(home)).await? {
        None => find(home).await?,
        running => running,
    };
    let Some(mut running) = running else { return Ok(None) };
    match running.ask(&request).await? {
        AgentResponse::Extension { content, .. } => Ok(Some(Status::decode(&content)?)),
        _ => Err(KeeperError::NotTheKeeper),
    }
}

/// The request that ends it.
pub fn stop_request() -> AgentRequest {
    AgentRequest::Extension { name: STOP.into(), content: Vec::new() }
}

/// Asks for something that is done or refused; `what` completes "the keeper would not …".
///
/// # Errors
/// It does not run, a refusal, and what the socket says.
pub async fn must(home: &Home, request: &AgentRequest, what: &str) -> Result<(), KeeperError> {
    must_at(socket_path(home), request, what).await
}

async fn must_at(path: PathBuf, request: &AgentRequest, what: &str) -> Result<(), KeeperError> {
    let mut running = find_at(path).await?.ok_or(KeeperError::NotRunning)?;
    match running.ask(request).await? {
        AgentResponse::Success => Ok(()),
        _ => Err(KeeperError::Refused { what: what.to_owned() }),
    }
}

/// Has it remember the password of a user of a machine, for so many seconds or until it stops.
///
/// # Errors
/// It does not run, has no room, or is locked.
pub async fn remember(
    home: &Home,
    machine: &str,
    user: &str,
    password: &SecretString,
    lifetime: Option<u32>,
) -> Result<(), KeeperError> {
    let password = SecretBytes::new(password.expose_secret().as_bytes().to_vec());
    let mut content = Remember { machine: machine.into(), user: user.into(), password, lifetime }.encode();
    let request = AgentRequest::Extension { name: REMEMBER.into(), content: std::mem::take(&mut *content) };
    let outcome =
        must_at(passwords_path(home), &request, "remember it: it is locked, full, or the password too long")
            .await;
    if let AgentRequest::Extension { content, .. } = request {
        drop(Zeroizing::new(content));
    }
    outcome
}

/// The password of a user of a machine; none where it does not run, is locked, or knows none.
///
/// # Errors
/// What the socket says.
pub async fn recall(home: &Home, machine: &str, user: &str) -> Result<Option<SecretString>, KeeperError> {
    let Some(mut running) = find_at(passwords_path(home)).await? else { return Ok(None) };
    let request = AgentRequest::Extension { name: RECALL.into(), content: question(machine, user) };
    match running.ask(&request).await? {
        AgentResponse::Extension { content, .. } => Ok(match String::from_utf8(content) {
            Ok(password) => Some(SecretString::new(password)),
            Err(error) => {
                drop(Zeroizing::new(error.into_bytes()));
                None
            }
        }),
        _ => Ok(None),
    }
}

/// Has it forget the passwords for a machine, or all where no machine is named; whether there were any.
///
/// # Errors
/// What the socket says.
pub async fn disown(home: &Home, machine: &str) -> Result<bool, KeeperError> {
    let Some(mut running) = find_at(passwords_path(home)).await? else { return Ok(false) };
    let request = AgentRequest::Extension { name: DISOWN.into(), content: question(machine, "") };
    Ok(running.ask(&request).await? == AgentResponse::Success)
}
