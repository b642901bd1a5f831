//! Forwarding the agent: a machine asks for signatures over its connection, and a person here allows each one.

use std::collections::{HashMap, VecDeque};

use bytes::{Buf, BytesMut};
use clap::Args;
use lantern_book::Home;
use lantern_keys::PublicKey;
use lantern_keys::wire::Reader;
use lantern_link::{AgentClient, Link};
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames};
use lantern_ssh::{ChannelEvent, ChannelId, SessionRequest, neutralize};
use tracing::debug;

use crate::failure::{Failure, code};
use crate::keeper;
use crate::output;
use crate::target::Target;

/// Most channels that a machine may hold open to the agent at once.
const MAX_CHANNELS: usize = 16;
/// Most signatures that may wait for a yes.
const MAX_WAITING: usize = 16;
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

/// A forwarded agent.
pub(crate) struct AgentForward {
    agent: AgentClient,
    unasked: bool,
    channels: HashMap<ChannelId, Conversation>,
    waiting: VecDeque<(ChannelId, AgentRequest, String)>,
}

#[derive(Default)]
struct Conversation {
    frames: Frames,
    unsent: BytesMut,
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
        for socket in keeper::agents(home) {
            match AgentClient::connect(&socket).await {
                Ok(agent) => {
                    return Ok(Some(AgentForward {
                        agent,
                        unasked: self.forward_agent_unasked,
                        channels: HashMap::new(),
                        waiting: VecDeque::new(),
                    }));
                }
                Err(error) => debug!(%error, "passed over"),
            }
        }
        Err(Failure::new(code::LOCAL, "there is no agent to forward: neither the keeper nor another runs")
            .hint("lantern keeper start && lantern keeper add NAME")
            .hint("`--no-forward-agent` goes on without"))
    }
}

impl AgentForward {
    /// Allows the machine to come back for signatures, on a session that is about to start.
    ///
    /// # Errors
    /// A connection that is lost.
    pub(crate) fn request(link: &mut Link, session: ChannelId) -> Result<(), Failure> {
        Ok(link.request(session, &SessionRequest::ForwardAgent, true)?)
    }

    /// Handles an event of a channel that is not the session's. A question to put to the person, when one has come up.
    ///
    /// # Errors
    /// A connection that is lost.
    pub(crate) async fn handle(
        &mut self,
        link: &mut Link,
        id: ChannelId,
        event: ChannelEvent,
    ) -> Result<Option<String>, Failure> {
        match event {
            ChannelEvent::OpenedToAgent if self.channels.len() < MAX_CHANNELS => {
                self.channels.insert(id, Conversation::default());
            }
            ChannelEvent::OpenedToAgent => link.close_channel(id),
            ChannelEvent::Data(_, data) => {
                link.consumed(id, data.len());
                if let Some(conversation) = self.channels.get_mut(&id) {
                    conversation.frames.feed(&data);
                }
                return self.work(link, id).await;
            }
            ChannelEvent::Writable => self.flush(link, id)?,
            ChannelEvent::Eof => link.close_channel(id),
            ChannelEvent::Closed => {
                self.channels.remove(&id);
                let first = self.waiting.front().map(|(id, ..)| *id);
                self.waiting.retain(|(waiting, ..)| *waiting != id);
                if first == Some(id) {
                    return Ok(self.question());
                }
            }
            _ => {}
        }
        Ok(None)
    }

    /// Whether a question waits for an answer.
    pub(crate) fn is_asking(&self) -> bool {
        !self.waiting.is_empty()
    }

    /// The person's answer to the question put last; the next question, when there is one.
    ///
    /// # Errors
    /// A connection that is lost.
    pub(crate) async fn answer(&mut self, link: &mut Link, yes: bool) -> Result<Option<String>, Failure> {
        if let Some((id, request, _)) = self.waiting.pop_front() {
            let answer = if yes { self.pass_on(&request).await } else { AgentResponse::Failure };
            self.reply(link, id, &answer)?;
        }
        Ok(self.question())
    }

    fn question(&self) -> Option<String> {
        self.waiting.front().map(|(_, _, question)| question.clone())
    }

    async fn work(&mut self, link: &mut Link, id: ChannelId) -> Result<Option<String>, Failure> {
        let mut came_up = None;
        while let Some(conversation) = self.channels.get_mut(&id) {
            let frame = match conversation.frames.next_frame() {
                Ok(Some(frame)) => frame,
                Ok(None) => break,
                Err(_) => {
                    link.close_channel(id);
                    break;
                }
            };
            // A machine may see which keys there are and ask for signatures. It has no business with anything else.
            let request = AgentRequest::decode(&frame).unwrap_or(AgentRequest::Unknown);
            let answer = match &request {
                AgentRequest::Sign { blob, data, .. } if !self.unasked => {
                    if self.waiting.len() < MAX_WAITING {
                        let question = question(link.machine(), blob, data);
                        self.waiting.push_back((id, request, question));
                        if self.waiting.len() == 1 {
                            came_up = self.question();
                        }
                        continue;
                    }
                    AgentResponse::Failure
                }
                AgentRequest::List | AgentRequest::Sign { .. } => self.pass_on(&request).await,
                _ => AgentResponse::Failure,
            };
            self.reply(link, id, &answer)?;
        }
        Ok(came_up)
    }

    async fn pass_on(&mut self, request: &AgentRequest) -> AgentResponse {
        self.agent.ask(request).await.unwrap_or(AgentResponse::Failure)
    }

    fn reply(&mut self, link: &mut Link, id: ChannelId, answer: &AgentResponse) -> Result<(), Failure> {
        let Some(conversation) = self.channels.get_mut(&id) else { return Ok(()) };
        conversation.unsent.extend_from_slice(&Frames::wrap(&answer.encode()));
        self.flush(link, id)
    }

    fn flush(&mut self, link: &mut Link, id: ChannelId) -> Result<(), Failure> {
        if let Some(conversation) = self.channels.get_mut(&id)
            && !conversation.unsent.is_empty()
        {
            let taken = link.send(id, &conversation.unsent)?;
            conversation.unsent.advance(taken);
        }
        Ok(())
    }
}

/// What the person is asked: which machine, which key, and what for as far as that can be told.
fn question(machine: &str, blob: &[u8], data: &[u8]) -> String {
    let key = match PublicKey::decode(blob) {
        Ok(key) => format!("{} {}", key.describe(), key.fingerprint()),
        Err(_) => "a key that lantern does not know".into(),
    };
    let what = match login_user(data) {
        Some(user) => format!("to log in somewhere as {}", neutralize(&user, 64)),
        None => "something that is no login".into(),
    };
    format!("{machine} asks for a signature with {key}, {what}.")
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

/// Tells that the machine does not take the agent; the session goes on without.
pub(crate) fn tell_refused(machine: &str) {
    output::warn(&format!("{machine} does not let agents be forwarded to it."));
}
