//! The user's own keys: which may be offered, and opening them.

use std::future::Future;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;

use lantern_book::{BookError, Home, Installed, KeyRing};
use lantern_keys::container::Sealed;
use lantern_keys::{Fingerprint, KeyError, PrivateKey, PublicKey};
use tokio::task::spawn_blocking;
use tracing::debug;

use crate::shared_ring::readable;
use crate::{AgentClient, Answer, Ask, ConnectRequest, KeyChoice, LinkError, Question};

/// Keys offered before anybody is asked for a password: servers close after about six failures.
pub(crate) const KEYS_FIRST: usize = 5;
/// Most keys offered on one connection: each costs a round trip, and few servers hear of more.
const MAX_KEYS_OFFERED: usize = 20;
/// Most tries at a key's passphrase.
const MAX_PASSPHRASE_TRIES: u32 = 3;

/// A key that may be offered: closed until it is needed.
pub(crate) struct OwnKey {
    pub(crate) name: String,
    pub(crate) public: PublicKey,
    half: Half,
    /// The agent that signs with it, by its place among those connected.
    pub(crate) agent: Option<usize>,
    /// Whether the ring knows it as installed there.
    is_installed_there: bool,
}

/// Keys that a machine does not hear of.
#[derive(Debug, Default)]
pub(crate) struct LeftOut {
    /// The names of those behind the most that are offered.
    pub(crate) too_many: Vec<String>,
    /// The files of those that others on this computer may read, and their permission bits.
    pub(crate) exposed: Vec<(PathBuf, u32)>,
}

/// The private half of a key, as far as it was fetched.
#[derive(Clone)]
enum Half {
    /// Only an agent has it.
    Elsewhere,
    /// In a file of the ring that was not read yet: of ten thousand, a few are offered.
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
        Lock { name: self.name.clone(), public: self.public.clone(), half: self.half.clone() }
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

/// The keys that a request lets us offer; of all those of the ring, those are left out that others may read.
pub(crate) async fn own_keys(
    request: &ConnectRequest,
    ask: &dyn Ask,
    left_out: &mut LeftOut,
) -> Result<Vec<OwnKey>, LinkError> {
    let ring = KeyRing::new(&request.home);
    Ok(match &request.keys {
        KeyChoice::Nothing => Vec::new(),
        KeyChoice::Named(names) => {
            names.iter().map(|name| named(request, &ring, name)).collect::<Result<_, LinkError>>()?
        }
        KeyChoice::File(path) => vec![from_file(request, path, ask).await?],
        KeyChoice::Ring | KeyChoice::RingWithout(_) => {
            let not_this = match &request.keys {
                KeyChoice::RingWithout(key) => Some(key),
                _ => None,
            };
            let listed = match &request.ring {
                Some(shared) => shared.listed(&ring)?,
                None => Arc::new(readable(&ring)?),
            };
            let mut keys = Vec::new();
            for key in listed.iter() {
                let Some(public) = key.public().filter(|public| Some(public) != not_this) else { continue };
                // A server counts each key that is offered: those of certificates are none of its business, unless somebody put them there.
                if key.note.for_certificates && key.note.installed.is_empty() {
                    continue;
                }
                if key.is_exposed() && !request.even_exposed {
                    left_out.exposed.push((ring.private_path(&key.name), key.mode));
                    continue;
                }
                let is_there =
                    |place: &Installed| place.machine == request.machine && place.user == request.user;
                let is_installed_there = key.note.installed.iter().any(is_there);
                let (name, half) = (key.name.clone(), Half::InRing { is_protected: key.is_protected() });
                keys.push(OwnKey { name, public, half, agent: None, is_installed_there });
            }
            keys
        }
    })
}

/// One that was asked for by its name.
fn named(request: &ConnectRequest, ring: &KeyRing, name: &str) -> Result<OwnKey, LinkError> {
    let listed = request.ring.as_ref().map(|shared| shared.listed(ring)).transpose()?;
    if let Some(key) = listed.iter().flat_map(|listed| listed.iter()).find(|key| key.name == name)
        && let Some(public) = key.public()
    {
        if key.is_exposed() && !request.even_exposed {
            return Err(LinkError::Exposed { path: ring.private_path(name), mode: key.mode });
        }
        let (name, half) = (name.to_owned(), Half::InRing { is_protected: key.is_protected() });
        return Ok(OwnKey { name, public, half, agent: None, is_installed_there: false });
    }
    let entry = ring.get(name)?;
    if entry.is_exposed() && !request.even_exposed {
        return Err(LinkError::Exposed { path: entry.path, mode: entry.mode });
    }
    let half = Half::of(entry.sealed);
    Ok(OwnKey { name: entry.name, public: entry.public, half, agent: None, is_installed_there: false })
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
                    is_installed_there: false,
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

/// Puts the keys in the order in which they are offered, and leaves the rest out. Those that the book says keep their order. Of the others, what
/// the machine took last comes first, then what is known to be installed there; among those, what costs no question, so that a passphrase is asked
/// for only when needed.
pub(crate) fn choose(
    request: &ConnectRequest,
    mut keys: Vec<OwnKey>,
    took: Option<&Fingerprint>,
    left_out: &mut LeftOut,
) -> Vec<OwnKey> {
    if matches!(request.keys, KeyChoice::Ring | KeyChoice::RingWithout(_)) {
        // Each fingerprint is made once, and none where nothing was taken yet.
        keys.sort_by_cached_key(|key| {
            let took = took.is_some_and(|took| key.public.fingerprint() == *took);
            (!took, !key.is_installed_there, key.rank())
        });
    }
    let rest = keys.split_off(keys.len().min(MAX_KEYS_OFFERED));
    left_out.too_many = rest.into_iter().map(|key| key.name).collect();
    keys
}

/// A key file. Where the container hides the public half, it has to be opened before it can be offered.
async fn from_file(request: &ConnectRequest, path: &Path, ask: &dyn Ask) -> Result<OwnKey, LinkError> {
    let (sealed, mode) = KeyRing::read_file(path)?;
    // What is no file, a pipe from another program say, has nobody else who reads it.
    if mode & 0o077 != 0 && path.is_file() && !request.even_exposed {
        return Err(LinkError::Exposed { path: path.to_owned(), mode });
    }
    let sealed = Arc::new(sealed);
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
    Ok(OwnKey { name, public, half, agent: None, is_installed_there: false })
}

/// Puts a question and goes on with whatever has to go on meanwhile.
pub(crate) trait Put: Send {
    fn put(&mut self, question: Question) -> Putting<'_>;
}

pub(crate) type Putting<'a> = Pin<Box<dyn Future<Output = Result<Answer, LinkError>> + Send + 'a>>;

/// Where nothing has to go on.
pub(crate) struct Directly<'a>(pub(crate) &'a dyn Ask);

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
    public: PublicKey,
    half: Half,
}

impl Lock {
    /// The private half; else why there is none to be had. A ring that is shared has each key opened once.
    pub(crate) async fn unlock(
        self,
        request: &ConnectRequest,
        to: &mut dyn Put,
    ) -> Result<Result<Arc<PrivateKey>, &'static str>, LinkError> {
        let slot = match (&self.half, &request.ring) {
            (Half::InRing { .. }, Some(shared)) => shared.slot(&self.name),
            _ => return self.open(&request.home, to).await,
        };
        let mut slot = slot.lock().await;
        if let Some(opened) = slot.as_ref().filter(|opened| *opened.public() == self.public) {
            return Ok(Ok(opened.clone()));
        }
        let opened = self.open(&request.home, to).await?;
        if let Ok(opened) = &opened {
            *slot = Some(opened.clone());
        }
        Ok(opened)
    }

    async fn open(
        self,
        home: &Home,
        to: &mut dyn Put,
    ) -> Result<Result<Arc<PrivateKey>, &'static str>, LinkError> {
        let half = match self.half {
            Half::InRing { .. } => match KeyRing::new(home).get(&self.name) {
                Ok(entry) if entry.public == self.public => Half::of(entry.sealed),
                Ok(_) => return Ok(Err("its file holds another key by now")),
                Err(_) => return Ok(Err("its file is damaged or gone")),
            },
            read => read,
        };
        let sealed = match half {
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
