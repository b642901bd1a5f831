//! Forwarding the agent: a machine asks for signatures over its connection, and a person here allows each one.

use std::sync::Arc;

use clap::Args;
use lantern_book::Home;
use lantern_keys::PublicKey;
use lantern_keys::wire::Reader;
use lantern_link::{
    AgentClient, AgentSocket, Answer, Answering, Ask, Channel, Grant, Granted, Question, Trunk, Uses,
};
use lantern_operations::Target;
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames};
use lantern_ssh::{Stream, neutralize};
use tokio::sync::{Semaphore, mpsc, oneshot};
use tracing::debug;

use crate::agents::agents;
use crate::failure::{Failure, code};
use crate::output;

/// Most conversations that a machine may have with the agent at once.
const MAX_CONVERSATIONS: usize = 16;
/// The number of a login request, which is what a signature is usually for (RFC 4252 §5).
const USERAUTH_REQUEST: u8 = 50;

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

/// An agent that can be forwarded.
pub(crate) struct AgentForward {
    socket: AgentSocket,
    unasked: bool,
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

impl AgentForward {
    /// Lets the machine come back for signatures from now on, in tasks of their own: neither a question that waits nor an agent that
    /// does holds up anything else.
    pub(crate) fn serve(self, trunk: &Trunk, ask: Arc<dyn Ask>) {
        let granted = trunk.grant(Grant::Agent, Uses::Many);
        let machine = trunk.machine().to_owned();
        tokio::spawn(self.take(granted, machine, ask));
    }

    async fn take(self, mut granted: Granted, machine: String, ask: Arc<dyn Ask>) {
        let places = Arc::new(Semaphore::new(MAX_CONVERSATIONS));
        while let Some((_, channel)) = granted.next().await {
            // One too many is closed at once.
            let Ok(place) = places.clone().try_acquire_owned() else { continue };
            let conversation = Conversation {
                channel,
                socket: self.socket.clone(),
                agent: None,
                ask: (!self.unasked).then(|| ask.clone()),
                machine: machine.clone(),
            };
            tokio::spawn(async move {
                conversation.hold().await;
                drop(place);
            });
        }
    }
}

/// One channel to the agent.
struct Conversation {
    channel: Channel,
    socket: AgentSocket,
    agent: Option<AgentClient>,
    /// Whom to ask before something is signed; nobody where everything may be.
    ask: Option<Arc<dyn Ask>>,
    machine: String,
}

impl Conversation {
    /// One question after the other: the next is not read before the answer to this one has been taken, so that a machine which
    /// asks and does not listen makes nothing grow.
    async fn hold(mut self) {
        let mut frames = Frames::default();
        while let Some(data) = self.channel.next(Stream::Main).await {
            frames.feed(&data);
            self.channel.consumed(data.len());
            loop {
                let frame = match frames.next_frame() {
                    Ok(Some(frame)) => frame,
                    Ok(None) => break,
                    Err(_) => return,
                };
                // A machine may see which keys there are and ask for signatures. It has no business with anything else.
                let request = AgentRequest::decode(&frame).unwrap_or(AgentRequest::Unknown);
                let Some(answer) = self.answer(&request).await else { return };
                let mut answer = bytes::Bytes::copy_from_slice(&Frames::wrap(&answer.encode()));
                if self.channel.send(&mut answer).await.is_err() {
                    return;
                }
            }
        }
        self.channel.close();
        self.channel.ended().await;
    }

    /// The answer; none when the machine has gone away while it was waited for.
    async fn answer(&mut self, request: &AgentRequest) -> Option<AgentResponse> {
        match request {
            AgentRequest::List => Some(self.pass_on(request).await),
            AgentRequest::Sign { blob, data, .. } => {
                let channel = self.channel.clone();
                if let Some(ask) = self.ask.clone() {
                    let what = what_for(blob, data);
                    let question = Question::Signature { machine: self.machine.clone(), what };
                    let answer = tokio::select! {
                        answer = ask.ask(question) => answer,
                        // Nobody needs the signature any more, nor the question.
                        _ = channel.ended() => return None,
                    };
                    if !matches!(answer, Answer::Yes) {
                        return Some(AgentResponse::Failure);
                    }
                }
                tokio::select! {
                    answer = self.pass_on(request) => Some(answer),
                    _ = channel.ended() => None,
                }
            }
            _ => Some(AgentResponse::Failure),
        }
    }

    async fn pass_on(&mut self, request: &AgentRequest) -> AgentResponse {
        if self.agent.is_none() {
            self.agent = AgentClient::connect(&self.socket).await.ok();
        }
        match &mut self.agent {
            Some(agent) => agent.ask(request).await.unwrap_or(AgentResponse::Failure),
            None => AgentResponse::Failure,
        }
    }
}

/// Which key, and what for as far as that can be told.
fn what_for(blob: &[u8], data: &[u8]) -> String {
    let key = match PublicKey::decode(blob) {
        Ok(key) => format!("{} {}", key.describe(), key.fingerprint()),
        Err(_) => "a key that lantern does not know".into(),
    };
    let what = match login_user(data) {
        Some(user) => format!("to log in somewhere as {}", neutralize(&user, 64)),
        None => "something that is no login".into(),
    };
    format!("a signature with {key}, {what}")
}

/// The user of a login request, when that is what is to be signed: a session identifier and then the request.
fn login_user(data: &[u8]) -> Option<String> {
    let mut reader = Reader::new(data);
    reader.string("session identifier").ok()?;
    if reader.u8("message number").ok()? != USERAUTH_REQUEST {
        return None;
    }
    reader.text("user").ok().map(str::to_owned)
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
