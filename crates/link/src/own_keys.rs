//! The user's own keys: which may be offered, and opening them.

use std::future::Future;
use std::path::Path;
use std::pin::Pin;
use std::sync::Arc;

use lantern_book::{BookError, KeyRing};
use lantern_keys::container::Sealed;
use lantern_keys::{KeyError, PrivateKey, PublicKey};
use tokio::task::spawn_blocking;
use tracing::debug;

use crate::{AgentClient, Answer, Ask, ConnectRequest, KeyChoice, LinkError, Question};

/// Most keys offered on one connection: servers close after about six failures, and each costs a round trip.
const MAX_KEYS_OFFERED: usize = 5;
/// Most tries at a key's passphrase.
const MAX_PASSPHRASE_TRIES: u32 = 3;

/// A key that may be offered: closed until it is needed.
pub(crate) struct OwnKey {
    pub(crate) name: String,
    pub(crate) public: PublicKey,
    half: Half,
    /// The agent that signs with it, by its place among those connected.
    pub(crate) agent: Option<usize>,
}

/// The private half of a key, as far as it was fetched.
#[derive(Clone)]
enum Half {
    /// Only an agent has it.
    Elsewhere,
    /// In a file of the ring that was not read yet: of ten thousand, five are offered.
    InRing {
        /// Whether a passphrase protects it.
        is_protected: bool,
    },
    /// Behind its passphrase.
    Closed(Arc<Sealed>),
    /// At hand.
    Open(Arc<PrivateKey>),
}

impl Half {
    fn of(sealed: Sealed) -> Self {
        match sealed.is_protected() {
            true => Self::Closed(Arc::new(sealed)),
            // What the file holds was checked when it was read.
            false => sealed.open(None).map_or(Self::Elsewhere, |key| Self::Open(Arc::new(key))),
        }
    }
}

impl OwnKey {
    /// Whether using it costs a question.
    pub(crate) fn is_locked(&self) -> bool {
        !self.is_at_hand() && self.agent.is_none()
    }

    fn is_at_hand(&self) -> bool {
        matches!(self.half, Half::Open(_) | Half::InRing { is_protected: false })
    }

    /// The agent to ask for a signature: none where the key itself is at hand.
    pub(crate) fn signing_agent(&self) -> Option<usize> {
        self.agent.filter(|_| !self.is_at_hand())
    }

    /// What unlocking it needs.
    pub(crate) fn lock(&self) -> Lock {
        Lock { name: self.name.clone(), half: self.half.clone() }
    }

    pub(crate) fn keep_opened(&mut self, key: Arc<PrivateKey>) {
        self.half = Half::Open(key);
    }

    /// In which order keys are offered: those at hand, those of agents, those that cost a question.
    fn rank(&self) -> u8 {
        match (self.is_at_hand(), self.agent) {
            (true, _) => 0,
            (false, Some(_)) => 1,
            (false, None) => 2,
        }
    }
}

/// The keys that a request lets us offer, those that cost no question first.
pub(crate) async fn own_keys(request: &ConnectRequest, ask: &dyn Ask) -> Result<Vec<OwnKey>, LinkError> {
    let ring = KeyRing::new(&request.home);
    Ok(match &request.keys {
        KeyChoice::Nothing => Vec::new(),
        KeyChoice::Named(names) => {
            names.iter().map(|name| from_ring(&ring, name)).collect::<Result<_, BookError>>()?
        }
        KeyChoice::File(path) => vec![from_file(path, ask).await?],
        KeyChoice::Ring | KeyChoice::RingWithout(_) => {
            // A broken file in the ring is reported by `key list`; here the others serve.
            let keys = ring.summaries()?.into_iter().filter_map(|(name, key)| {
                let key = key.ok()?;
                let half = Half::InRing { is_protected: key.is_protected() };
                Some(OwnKey { name, public: key.public()?, half, agent: None })
            });
            let left_out = match &request.keys {
                KeyChoice::RingWithout(key) => Some(key),
                _ => None,
            };
            keys.filter(|key| Some(&key.public) != left_out).collect()
        }
    })
}

fn from_ring(ring: &KeyRing, name: &str) -> Result<OwnKey, BookError> {
    let entry = ring.get(name)?;
    Ok(OwnKey { name: entry.name, public: entry.public, half: Half::of(entry.sealed), agent: None })
}

/// Connects to the agents of a request and marks the keys that they sign with. Where any key of the ring may be offered,
/// keys that only an agent has are added. An agent that does not answer is passed over.
pub(crate) async fn join_agents(request: &ConnectRequest, keys: &mut Vec<OwnKey>) -> Vec<AgentClient> {
    let mut agents = Vec::new();
    if matches!(request.keys, KeyChoice::Nothing) {
        return agents;
    }
    for socket in &request.agents {
        let listed = match AgentClient::connect(socket).await {
            Ok(mut client) => client.list().await.map(|identities| (client, identities)),
            Err(error) => Err(error),
        };
        let (client, identities) = match listed {
            Ok(joined) => joined,
            Err(error) => {
                debug!(%error, "passed over");
                continue;
            }
        };
        for identity in identities {
            // Kinds of keys that we don't hold, certificates among them, are read over.
            let Ok(public) = PublicKey::decode(&identity.blob) else { continue };
            match keys.iter_mut().find(|key| key.public == public) {
                Some(key) => key.agent = key.agent.or(Some(agents.len())),
                None if is_welcome(&request.keys, &public) => keys.push(OwnKey {
                    name: format!("{} of {}", lantern_ssh::neutralize(&identity.comment, 64), socket.what),
                    public,
                    half: Half::Elsewhere,
                    agent: Some(agents.len()),
                }),
                None => {}
            }
        }
        agents.push(client);
    }
    agents
}

fn is_welcome(choice: &KeyChoice, key: &PublicKey) -> bool {
    match choice {
        KeyChoice::Ring => true,
        KeyChoice::RingWithout(left_out) => key != left_out,
        _ => false,
    }
}

/// Puts keys that cost no question first, so that a passphrase is asked for only when needed, leaves the rest out, and reads the files of
/// those that stay. One that broke or went meanwhile is left out too.
pub(crate) fn choose(request: &ConnectRequest, keys: Vec<OwnKey>) -> Vec<OwnKey> {
    let ring = KeyRing::new(&request.home);
    let mut keys = keys;
    keys.sort_by_key(OwnKey::rank);
    let read = keys.into_iter().filter_map(|key| match key.half {
        Half::InRing { .. } => {
            let read = from_ring(&ring, &key.name).ok().filter(|read| read.public == key.public)?;
            Some(OwnKey { agent: key.agent, ..read })
        }
        _ => Some(key),
    });
    read.take(MAX_KEYS_OFFERED).collect()
}

/// A key file. Where the container hides the public half, it has to be opened before it can be offered.
async fn from_file(path: &Path, ask: &dyn Ask) -> Result<OwnKey, LinkError> {
    let sealed = Arc::new(KeyRing::read_file(path)?);
    let name = path.display().to_string();
    let failed = |source| LinkError::Book(BookError::Key { path: path.to_owned(), source });
    let (public, half) = match (sealed.public(), sealed.is_protected()) {
        (Some(public), true) => (public.clone(), Half::Closed(sealed)),
        _ => {
            let opened = open(&sealed, &name, &mut Directly(ask)).await?;
            let opened = opened.map_err(failed)?;
            (opened.public().clone(), Half::Open(Arc::new(opened)))
        }
    };
    Ok(OwnKey { name, public, half, agent: None })
}

/// Puts a question and goes on with whatever has to go on meanwhile.
pub(crate) trait Put: Send {
    fn put(&mut self, question: Question) -> Putting<'_>;
}

pub(crate) type Putting<'a> = Pin<Box<dyn Future<Output = Result<Answer, LinkError>> + Send + 'a>>;

/// Where nothing has to go on.
struct Directly<'a>(&'a dyn Ask);

impl Put for Directly<'_> {
    fn put(&mut self, question: Question) -> Putting<'_> {
        let answering = self.0.ask(question);
        Box::pin(async move { Ok(answering.await) })
    }
}

/// Opens a container, asking for its passphrase when there is one. The work of that is done beside the connection, not in its way.
async fn open(
    sealed: &Arc<Sealed>,
    name: &str,
    to: &mut dyn Put,
) -> Result<Result<PrivateKey, KeyError>, LinkError> {
    if !sealed.is_protected() {
        return Ok(sealed.open(None));
    }
    let mut outcome = Err(KeyError::PassphraseNeeded);
    for attempt in 0..MAX_PASSPHRASE_TRIES {
        let question = Question::Passphrase { key: name.to_owned(), again: attempt > 0 };
        let Some(passphrase) = to.put(question).await?.secret() else { break };
        let sealed = sealed.clone();
        let opened = spawn_blocking(move || sealed.open(Some(&passphrase))).await;
        outcome = opened.unwrap_or(Err(KeyError::Inconsistent("opening it was broken off")));
        let again = matches!(
            outcome,
            Err(KeyError::WrongPassphrase | KeyError::WrongPassphraseOrDamaged | KeyError::PassphraseNeeded)
        );
        if !again {
            break;
        }
    }
    Ok(outcome)
}

/// A key that is to be unlocked, apart from the login that needs it.
pub(crate) struct Lock {
    name: String,
    half: Half,
}

impl Lock {
    /// The private half; else why there is none to be had.
    pub(crate) async fn unlock(
        self,
        to: &mut dyn Put,
    ) -> Result<Result<Arc<PrivateKey>, &'static str>, LinkError> {
        let sealed = match self.half {
            Half::Open(opened) => return Ok(Ok(opened)),
            Half::Closed(sealed) => sealed,
            Half::Elsewhere | Half::InRing { .. } => return Ok(Err("the agent that has it did not sign")),
        };
        Ok(match open(&sealed, &self.name, to).await? {
            Ok(opened) => Ok(Arc::new(opened)),
            Err(KeyError::PassphraseNeeded) => Err("locked, and no passphrase was given"),
            Err(KeyError::WrongPassphrase | KeyError::WrongPassphraseOrDamaged) => {
                Err("locked, and the passphrase was wrong")
            }
            Err(KeyError::TooCostly { .. }) => Err("locked, and opening it would take minutes"),
            Err(_) => Err("its file is damaged"),
        })
    }
}
