//! How commands reach the keeper.

use lantern_book::Home;
use lantern_link::{AgentClient, AgentError, AgentSocket};
use lantern_ssh::agent::{AgentRequest, AgentResponse};

use super::socket_path;
use super::status::{STATUS, STOP, Status};
use crate::commands::block_on;
use crate::failure::{Failure, chain, code};

impl From<AgentError> for Failure {
    fn from(error: AgentError) -> Self {
        Self::new(code::LOCAL, chain(&error))
    }
}

/// Connects to the keeper; none when it does not run.
///
/// # Errors
/// What the system says but for "nobody is there".
pub(crate) async fn find(home: &Home) -> Result<Option<AgentClient>, Failure> {
    let socket = AgentSocket { path: socket_path(home), what: "the keeper" };
    match AgentClient::connect(&socket).await {
        Ok(client) => Ok(Some(client)),
        Err(AgentError::Io { source, .. })
            if matches!(
                source.kind(),
                std::io::ErrorKind::NotFound | std::io::ErrorKind::ConnectionRefused
            ) =>
        {
            Ok(None)
        }
        Err(error) => Err(error.into()),
    }
}

/// Asks the keeper, which must run; its answer.
async fn ask(home: &Home, request: &AgentRequest) -> Result<AgentResponse, Failure> {
    let running = find(home).await?;
    let mut running = running
        .ok_or_else(|| Failure::new(code::LOCAL, "the keeper does not run").hint("lantern keeper start"))?;
    Ok(running.ask(request).await?)
}

/// Its state; none when it does not run.
///
/// # Errors
/// What the socket says; an agent that is not our keeper.
pub(crate) fn status(home: &Home) -> Result<Option<Status>, Failure> {
    let request = AgentRequest::Extension { name: STATUS.into(), content: Vec::new() };
    let answer = block_on(async {
        match find(home).await? {
            Some(mut running) => Ok(Some(running.ask(&request).await?)),
            None => Ok(None),
        }
    })?;
    match answer {
        Some(AgentResponse::Extension { content, .. }) => Status::decode(&content)
            .map(Some)
            .map_err(|error| Failure::new(code::LOCAL, format!("the keeper answers oddly: {error}"))),
        Some(_) => Err(Failure::new(code::LOCAL, "what listens on the keeper's socket is not the keeper")),
        None => Ok(None),
    }
}

/// The request that ends it.
pub(crate) fn stop_request() -> AgentRequest {
    AgentRequest::Extension { name: STOP.into(), content: Vec::new() }
}

/// Asks for something that is done or refused.
///
/// # Errors
/// A refusal, and what the socket says.
pub(crate) fn must(home: &Home, request: &AgentRequest, what: &str) -> Result<(), Failure> {
    match block_on(ask(home, request))? {
        AgentResponse::Success => Ok(()),
        _ => Err(Failure::new(code::LOCAL, format!("the keeper would not {what}"))),
    }
}
