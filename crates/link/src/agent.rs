//! An agent as a client meets it: our keeper, or any other that speaks the protocol on a socket.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use lantern_keys::{PublicKey, Signature, SignatureAlgorithm};
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames, Identity, SignFlags};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;
use tokio::time::timeout;

/// Longest wait for an answer that no person is asked about.
const ANSWER_TIME: Duration = Duration::from_secs(5);
/// Longest wait for a signature: a person may be asked for a yes.
const SIGN_TIME: Duration = Duration::from_secs(90);
/// Longest wait for a passphrase to be looked at: after wrong ones an agent takes its time.
const UNLOCK_TIME: Duration = Duration::from_secs(30);

/// Where an agent listens, and how it is called in messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AgentSocket {
    /// The socket.
    pub path: PathBuf,
    /// "the keeper", "the agent".
    pub what: &'static str,
}

/// Why an agent did not do what it was asked to.
#[derive(Debug, thiserror::Error)]
pub enum AgentError {
    /// The socket.
    #[error("cannot talk to {what} at {}", path.display())]
    Io {
        /// "the keeper", "the agent".
        what: &'static str,
        /// Its socket.
        path: PathBuf,
        /// What the system says.
        source: io::Error,
    },
    /// It broke the protocol.
    #[error("{what} does not answer in the agent protocol")]
    Protocol {
        /// "the keeper", "the agent".
        what: &'static str,
    },
    /// It is another user's: it would learn what is asked, or be given a key.
    #[error("{what} at {} belongs to another user (number {uid})", path.display())]
    NotOurs {
        /// "the keeper", "the agent".
        what: &'static str,
        /// Its socket.
        path: PathBuf,
        /// Whose it is.
        uid: u32,
    },
    /// It said no.
    #[error("{what} said no")]
    Refused {
        /// "the keeper", "the agent".
        what: &'static str,
    },
}

/// A connection to an agent.
#[derive(Debug)]
pub struct AgentClient {
    socket: AgentSocket,
    /// None while an exchange is under way. One that was given up leaves nothing here: its answer may still come, and must not be
    /// taken for the answer to the next question.
    conversation: Option<Conversation>,
}

#[derive(Debug)]
struct Conversation {
    stream: UnixStream,
    frames: Frames,
}

impl AgentClient {
    /// Connects.
    ///
    /// # Errors
    /// [`AgentError::Io`]: nobody listens.
    pub async fn connect(socket: &AgentSocket) -> Result<Self, AgentError> {
        let conversation = Some(Conversation::begin(socket).await?);
        Ok(Self { socket: socket.clone(), conversation })
    }

    /// How it is called in messages.
    pub fn what(&self) -> &'static str {
        self.socket.what
    }

    /// Its socket.
    pub fn path(&self) -> &Path {
        &self.socket.path
    }

    /// Asks and waits for the answer.
    ///
    /// # Errors
    /// The socket, or a message that is none.
    pub async fn ask(&mut self, request: &AgentRequest) -> Result<AgentResponse, AgentError> {
        let patience = match request {
            AgentRequest::Sign { .. } => SIGN_TIME,
            AgentRequest::Unlock(_) => UNLOCK_TIME,
            _ => ANSWER_TIME,
        };
        match timeout(patience, self.exchange(request)).await {
            Ok(answer) => answer,
            Err(_) => Err(io_error(&self.socket, io::ErrorKind::TimedOut.into())),
        }
    }

    async fn exchange(&mut self, request: &AgentRequest) -> Result<AgentResponse, AgentError> {
        let mut conversation = match self.conversation.take() {
            Some(conversation) => conversation,
            None => Conversation::begin(&self.socket).await?,
        };
        let answer = conversation.exchange(&self.socket, request).await?;
        self.conversation = Some(conversation);
        Ok(answer)
    }

    /// The keys that it offers.
    ///
    /// # Errors
    /// As [`Self::ask`].
    pub async fn list(&mut self) -> Result<Vec<Identity>, AgentError> {
        match self.ask(&AgentRequest::List).await? {
            AgentResponse::Identities(identities) => Ok(identities),
            _ => Err(AgentError::Refused { what: self.socket.what }),
        }
    }

    /// Has it sign, and checks that it did. The signature is in its wire form.
    ///
    /// # Errors
    /// As [`Self::ask`]; [`AgentError::Refused`].
    pub async fn sign(
        &mut self,
        key: &PublicKey,
        algorithm: SignatureAlgorithm,
        data: &[u8],
    ) -> Result<Vec<u8>, AgentError> {
        let flags = SignFlags::for_algorithm(algorithm);
        let request = AgentRequest::Sign { blob: key.encode(), data: data.to_vec(), flags };
        match self.ask(&request).await? {
            AgentResponse::Signature(blob) => {
                // A wrong signature would cost one of the few tries that a server allows.
                let good = Signature::decode(&blob).and_then(|signature| key.verify(data, &signature));
                good.map(|()| blob).map_err(|_| AgentError::Protocol { what: self.socket.what })
            }
            _ => Err(AgentError::Refused { what: self.socket.what }),
        }
    }
}

impl Conversation {
    async fn begin(socket: &AgentSocket) -> Result<Self, AgentError> {
        let connecting = timeout(ANSWER_TIME, UnixStream::connect(&socket.path)).await;
        let stream = connecting
            .unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
            .map_err(|source| io_error(socket, source))?;
        let uid = stream.peer_cred().map_err(|source| io_error(socket, source))?.uid();
        match uid == 0 || uid == rustix::process::geteuid().as_raw() {
            true => Ok(Self { stream, frames: Frames::default() }),
            false => Err(AgentError::NotOurs { what: socket.what, path: socket.path.clone(), uid }),
        }
    }

    async fn exchange(
        &mut self,
        socket: &AgentSocket,
        request: &AgentRequest,
    ) -> Result<AgentResponse, AgentError> {
        let protocol = AgentError::Protocol { what: socket.what };
        let Ok(message) = request.encode() else { return Err(protocol) };
        self.stream.write_all(&Frames::wrap(&message)).await.map_err(|source| io_error(socket, source))?;
        let mut buffer = [0; 4096];
        loop {
            match self.frames.next_frame() {
                Ok(Some(frame)) => return AgentResponse::decode(&frame).map_err(|_| protocol),
                Ok(None) => {}
                Err(_) => return Err(protocol),
            }
            let len = self.stream.read(&mut buffer).await.map_err(|source| io_error(socket, source))?;
            match buffer.get(..len) {
                Some(bytes) if len > 0 => self.frames.feed(bytes),
                _ => return Err(io_error(socket, io::ErrorKind::UnexpectedEof.into())),
            }
        }
    }
}

fn io_error(socket: &AgentSocket, source: io::Error) -> AgentError {
    AgentError::Io { what: socket.what, path: socket.path.clone(), source }
}
