//! What is forwarded to a machine, the agent and the display, and what is said when the machine takes none.

use std::sync::Arc;

use lantern_book::Home;
use lantern_keys::SystemRandom;
use lantern_link::{AgentClient, LinkError, Opens, Program, Remote};
use lantern_operations::display::{DisplayForward, Windows};
use lantern_operations::{AgentForward, Target};
use tokio::sync::mpsc;
use tracing::debug;

use super::display::display_to_forward;
use crate::cli::forward::ForwardArgs;
use crate::cli::settings::agents;
use crate::screen::failure::{Failure, code};
use crate::terminal::session_ask::{AskInSession, Asked};

/// The agent to forward to this machine, when options or book want it.
///
/// # Errors
/// When there is no agent.
async fn agent_to_forward(
    args: &ForwardArgs,
    home: &Home,
    target: &Target,
) -> Result<Option<AgentForward>, Failure> {
    let wanted = args.forward_agent || args.forward_agent_unasked || target.forward_agent;
    if !wanted || args.no_forward_agent {
        return Ok(None);
    }
    for socket in agents(home) {
        match AgentClient::connect(&socket).await {
            Ok(_) => return Ok(Some(AgentForward { socket, unasked: args.forward_agent_unasked })),
            Err(error) => debug!(%error, "passed over"),
        }
    }
    Err(Failure::new(code::LOCAL, "there is no agent to forward: neither the keeper nor another runs")
        .hint("lantern keeper start && lantern keeper add NAME")
        .hint("`--no-forward-agent` goes on without"))
}

/// Tells that the machine does not take the agent; the session goes on without.
pub(super) fn refused(machine: &str) -> String {
    format!("{machine} does not let agents be forwarded to it")
}

/// What a session's programs may come back for.
#[derive(Default)]
pub(super) struct Forwards {
    /// The agent.
    pub(super) agent: Option<AgentForward>,
    display: Option<DisplayForward>,
}

impl Forwards {
    /// What a connection for this program opens: the program, unless it is to be told of something that is granted on that connection.
    pub(super) fn opens(&self, program: &Program) -> Opens {
        match self.agent.is_none() && self.display.is_none() {
            true => Opens::Program(program.clone()),
            false => Opens::Session,
        }
    }
}

/// The same, granted.
pub(super) struct Granted {
    /// Questions about signatures.
    pub(super) questions: Option<mpsc::Receiver<Asked>>,
    /// What goes on at the display.
    pub(super) windows: Option<Arc<Windows>>,
}

impl Forwards {
    /// What options and book want, looked at before anything is connected.
    ///
    /// # Errors
    /// It is not there.
    pub(super) async fn of(args: &ForwardArgs, home: &Home, target: &Target) -> Result<Self, Failure> {
        let agent = agent_to_forward(args, home, target).await?;
        Ok(Self { agent, display: display_to_forward(args, home, target).await? })
    }

    /// Lets the machine come back, and the program know.
    ///
    /// # Errors
    /// It is spoken to by a protocol that has no such thing.
    pub(super) fn grant(self, remote: &Remote, program: &mut Program) -> Result<Granted, LinkError> {
        let mut questions = None;
        program.agent = self.agent.is_some();
        if let Some(forward) = self.agent {
            let (asking, asked) = AskInSession::new();
            questions = Some(asked);
            forward.serve(remote.trunk_for("agent that could be forwarded")?, asking);
        }
        let windows = self.display.as_ref().map(|display| display.windows().clone());
        if let Some(display) = self.display {
            let trunk = remote.trunk_for("display that could be forwarded")?;
            program.display = Some(display.serve(trunk, &mut SystemRandom));
        }
        Ok(Granted { questions, windows })
    }
}
