//! Forwarding the agent: a machine asks for signatures over its connection, and a person here allows each one.

use std::sync::Arc;

use lantern_keys::PublicKey;
use lantern_keys::wire::Reader;
use lantern_link::{
    AgentClient, AgentSocket, Answer, Ask, Channel, Grant, Granted, Opened, Question, Trunk, Uses,
};
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames};
use lantern_ssh::{Stream, neutralize};
use tokio::sync::Semaphore;

/// Most conversations that a machine may have with the agent at once.
const MAX_CONVERSATIONS: usize = 16;
/// The number of a login request, which is what a signature is usually for (RFC 4252 §5).
const USERAUTH_REQUEST: u8 = 50;

/// An agent that can be forwarded.
#[derive(Debug)]
pub struct AgentForward {
    /// Where it listens.
    pub socket: AgentSocket,
    /// Whether the machine gets every signature that it asks for.
    pub unasked: bool,
}

impl AgentForward {
    /// Lets the machine come back for signatures from now on, in tasks of their own: neither a question that waits nor an agent that
    /// does holds up anything else.
    pub fn serve(self, trunk: &Trunk, ask: Arc<dyn Ask>) {
        let granted = trunk.grant(Grant::Agent, Uses::Many);
        let machine = trunk.machine().to_owned();
        tokio::spawn(self.take(granted, machine, ask));
    }

    async fn take(self, mut granted: Granted, machine: String, ask: Arc<dyn Ask>) {
        let places = Arc::new(Semaphore::new(MAX_CONVERSATIONS));
        while let Some(Opened { channel, .. }) = granted.next().await {
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
