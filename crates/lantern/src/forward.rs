//! Forwarding the agent, as far as it is arguments and words: what is to be forwarded, and questions put in a session.

use std::sync::Arc;

use clap::Args;
use lantern_book::Home;
use lantern_link::{AgentClient, Answer, Answering, Ask, Question};
use lantern_operations::{AgentForward, Target};
use tokio::sync::{mpsc, oneshot};
use tracing::debug;

use crate::agents::agents;
use crate::failure::{Failure, code};
use crate::output;

/// Options of commands that can forward the agent.
#[derive(Debug, Args)]
pub(crate) struct ForwardArgs {
    /// Let the machine ask for signatures while this lasts; each one wants your yes
    #[arg(long)]
    forward_agent: bool,
    /// Don't, whatever the book says
    #[arg(long, conflicts_with = "forward_agent")]
    no_forward_agent: bool,
    /// Let the machine have every signature it asks for: whoever rules it can log in as you elsewhere
    #[arg(long, conflicts_with = "no_forward_agent")]
    forward_agent_unasked: bool,
}

impl ForwardArgs {
    /// The agent to forward to this machine, when options or book want it.
    ///
    /// # Errors
    /// When there is no agent.
    pub(crate) async fn prepare(
        &self,
        home: &Home,
        target: &Target,
    ) -> Result<Option<AgentForward>, Failure> {
        let wanted = self.forward_agent || self.forward_agent_unasked || target.forward_agent;
        if !wanted || self.no_forward_agent {
            return Ok(None);
        }
        for socket in agents(home) {
            match AgentClient::connect(&socket).await {
                Ok(_) => return Ok(Some(AgentForward { socket, unasked: self.forward_agent_unasked })),
                Err(error) => debug!(%error, "passed over"),
            }
        }
        Err(Failure::new(code::LOCAL, "there is no agent to forward: neither the keeper nor another runs")
            .hint("lantern keeper start && lantern keeper add NAME")
            .hint("`--no-forward-agent` goes on without"))
    }
}

/// A question that is answered where the session is: by what is typed into it.
pub(crate) struct Asked {
    /// What to show.
    pub(crate) text: String,
    answer: oneshot::Sender<bool>,
}

impl Asked {
    /// Whether whoever asked still waits.
    pub(crate) fn is_wanted(&self) -> bool {
        !self.answer.is_closed()
    }

    /// Answers it.
    pub(crate) fn answer(self, yes: bool) {
        let _ = self.answer.send(yes);
    }
}

/// Puts questions about signatures to the session that they come from.
pub(crate) struct AskInSession(mpsc::Sender<Asked>);

impl AskInSession {
    /// With the other end, for the session's loop. Questions come one at a time.
    pub(crate) fn new() -> (Arc<Self>, mpsc::Receiver<Asked>) {
        let (sender, questions) = mpsc::channel(1);
        (Arc::new(Self(sender)), questions)
    }
}

impl Ask for AskInSession {
    fn ask(&self, question: Question) -> Answering {
        let sender = self.0.clone();
        Box::pin(async move {
            let Question::Signature { machine, what } = question else { return Answer::No };
            let (answer, answered) = oneshot::channel();
            let asked = Asked { text: format!("{machine} asks for {what}."), answer };
            match sender.send(asked).await {
                Ok(()) if answered.await == Ok(true) => Answer::Yes,
                _ => Answer::No,
            }
        })
    }
}

/// Tells that the machine does not take the agent; the session goes on without.
pub(crate) fn tell_refused(machine: &str) {
    output::warn(&format!("{machine} does not let agents be forwarded to it."));
}
