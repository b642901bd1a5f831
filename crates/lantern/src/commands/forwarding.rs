//! Which agent is forwarded, and what is said when the machine takes none.

use lantern_book::Home;
use lantern_link::AgentClient;
use lantern_operations::{AgentForward, Target};
use tracing::debug;

use crate::cli::forward::ForwardArgs;
use crate::cli::settings::agents;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// The agent to forward to this machine, when options or book want it.
///
/// # Errors
/// When there is no agent.
pub(crate) async fn agent_to_forward(
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
pub(crate) fn tell_refused(machine: &str) {
    output::warn(format!("{machine} does not let agents be forwarded to it."));
}
