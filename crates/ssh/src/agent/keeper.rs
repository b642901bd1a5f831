//! The side that holds keys: a state machine over requests and instants.

use std::time::{Duration, Instant};

use lantern_keys::wire::{Reader, Writer};
use lantern_keys::{PrivateKey, PublicKey, SecretBytes, SignatureAlgorithm};
use tracing::debug;

use super::{AgentRequest, AgentResponse, Constraints, Identity};

/// Most keys held at once.
pub const MAX_KEYS: usize = 64;
/// Room for one key in a vault, in bytes: the largest RSA key takes about 9 KB, a comment rarely 1 KB.
pub const SLOT_LEN: usize = 16 * 1024;
/// The extension that lists extensions (draft-ietf-sshm-ssh-agent §3.8).
const QUERY: &str = "query";

/// Where the bytes of keys lie: locked memory, or plain memory in tests. Slots are numbered from 0 to [`MAX_KEYS`].
pub trait Vault: Send {
    /// Puts bytes of at most [`SLOT_LEN`] into a slot.
    fn store(&mut self, slot: usize, bytes: &[u8]);
    /// The bytes of a slot.
    fn load(&self, slot: usize) -> &[u8];
    /// Overwrites a slot.
    fn wipe(&mut self, slot: usize);
}

/// A vault in plain memory, for tests.
#[derive(Debug, Default)]
pub struct PlainVault(std::collections::BTreeMap<usize, SecretBytes>);

impl Vault for PlainVault {
    fn store(&mut self, slot: usize, bytes: &[u8]) {
        self.0.insert(slot, SecretBytes::new(bytes.to_vec()));
    }

    fn load(&self, slot: usize) -> &[u8] {
        self.0.get(&slot).map(SecretBytes::expose_secret).unwrap_or_default()
    }

    fn wipe(&mut self, slot: usize) {
        self.0.remove(&slot);
    }
}

/// A key that is held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// The public half.
    pub public: PublicKey,
    /// Its comment.
    pub comment: String,
    /// When it is forgotten.
    pub expires: Option<Instant>,
    /// Whether a person is asked before each use.
    pub confirm: bool,
    slot: usize,
}

/// A signature that awaits a person's yes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignTask {
    /// The key.
    pub key: PublicKey,
    /// Its comment.
    pub comment: String,
    data: Vec<u8>,
    algorithm: SignatureAlgorithm,
}

/// After the first wrong passphrase to unlock, the next is looked at so much later; each further one doubles it.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
/// Longest pause: who locked it and mistypes still gets in, who searches a list of words tries ten thousand a day.
const LONGEST_PAUSE: Duration = Duration::from_secs(8);

/// What a request comes to.
#[derive(Debug)]
pub enum Outcome {
    /// This answer.
    Answer(AgentResponse),
    /// A question to a person; on a yes, [`Keeper::sign`] has the answer, else it is [`AgentResponse::Failure`].
    Confirm(Box<SignTask>),
    /// Nothing yet: the request is to be handled again at that time. Requests that wait are handled in the order in which they came.
    Later(Instant, AgentRequest),
}

/// Keys held, with their conditions.
pub struct Keeper {
    held: Vec<Held>,
    vault: Box<dyn Vault>,
    /// The passphrase that locks everything, while it does.
    lock: Option<SecretBytes>,
    /// Wrong passphrases in a row.
    wrong: u32,
    /// No passphrase is looked at before.
    pause_until: Option<Instant>,
    /// Whether there is somebody to ask.
    can_ask: bool,
}

impl Keeper {
    /// An empty keeper. Keys that want a person's yes are taken only when `can_ask`.
    pub fn new(vault: Box<dyn Vault>, can_ask: bool) -> Self {
        Self { held: Vec::new(), vault, lock: None, wrong: 0, pause_until: None, can_ask }
    }

    /// The keys held, locked or not.
    pub fn held(&self) -> &[Held] {
        &self.held
    }

    /// Whether it is locked.
    pub fn is_locked(&self) -> bool {
        self.lock.is_some()
    }

    /// When the next key has to be forgotten.
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.held.iter().filter_map(|held| held.expires).min()
    }

    /// Forgets keys whose time is over.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.forget(|held| held.expires.is_some_and(|expires| expires <= now));
    }

    /// Handles a request.
    pub fn handle(&mut self, request: AgentRequest, now: Instant) -> Outcome {
        self.handle_timeout(now);
        let answer = match request {
            AgentRequest::Unlock(secret) => {
                return match self.pause_until.filter(|until| *until > now && self.is_locked()) {
                    Some(until) => Outcome::Later(until, AgentRequest::Unlock(secret)),
                    None => Outcome::Answer(self.unlock(&secret, now)),
                };
            }
            // §3.7: locked, it neither shows nor changes anything.
            AgentRequest::List if self.is_locked() => AgentResponse::Identities(Vec::new()),
            _ if self.is_locked() => AgentResponse::Failure,
            AgentRequest::List => self.list(),
            AgentRequest::Sign { blob, data, flags } => return self.sign_request(&blob, data, flags),
            AgentRequest::Add { key, constraints } => self.add(&key, constraints, now),
            AgentRequest::Remove(blob) => {
                let before = self.held.len();
                self.forget(|held| held.public.encode() == blob);
                if self.held.len() < before { AgentResponse::Success } else { AgentResponse::Failure }
            }
            AgentRequest::RemoveAll => {
                self.forget(|_| true);
                AgentResponse::Success
            }
            AgentRequest::Lock(secret) => {
                self.lock = Some(secret);
                AgentResponse::Success
            }
            AgentRequest::Extension { name, .. } if name == QUERY => {
                let mut content = Vec::new();
                content.put_string(QUERY.as_bytes());
                AgentResponse::Extension { name, content }
            }
            AgentRequest::Extension { .. } | AgentRequest::Unknown => AgentResponse::Failure,
        };
        Outcome::Answer(answer)
    }

    fn unlock(&mut self, secret: &SecretBytes, now: Instant) -> AgentResponse {
        let Some(lock) = &self.lock else { return AgentResponse::Failure };
        // `SecretBytes` compares in constant time.
        if lock == secret {
            (self.lock, self.wrong, self.pause_until) = (None, 0, None);
            return AgentResponse::Success;
        }
        let pause = FIRST_PAUSE.saturating_mul(1 << self.wrong.min(16)).min(LONGEST_PAUSE);
        self.wrong = self.wrong.saturating_add(1);
        self.pause_until = now.checked_add(pause);
        AgentResponse::Failure
    }

    fn list(&self) -> AgentResponse {
        let identity = |held: &Held| Identity { blob: held.public.encode(), comment: held.comment.clone() };
        AgentResponse::Identities(self.held.iter().map(identity).collect())
    }

    fn add(&mut self, key: &PrivateKey, constraints: Constraints, now: Instant) -> AgentResponse {
        let Ok(bytes) = key.to_agent_form() else { return AgentResponse::Failure };
        if bytes.len() > SLOT_LEN || (constraints.confirm && !self.can_ask) {
            return AgentResponse::Failure;
        }
        // Added again, a key has the new conditions (§3.2).
        self.forget(|held| held.public == *key.public());
        let Some(slot) = (0..MAX_KEYS).find(|slot| self.held.iter().all(|held| held.slot != *slot)) else {
            return AgentResponse::Failure;
        };
        self.vault.store(slot, &bytes);
        let expires =
            constraints.lifetime.and_then(|seconds| now.checked_add(Duration::from_secs(seconds.into())));
        debug!(key = %key.public().fingerprint(), seconds = constraints.lifetime, asks = constraints.confirm, "held");
        self.held.push(Held {
            public: key.public().clone(),
            comment: key.comment().to_owned(),
            expires,
            confirm: constraints.confirm,
            slot,
        });
        AgentResponse::Success
    }

    /// Forgets everything, locked or not.
    pub fn forget_all(&mut self) {
        self.forget(|_| true);
    }

    fn forget(&mut self, which: impl Fn(&Held) -> bool) {
        let vault = &mut self.vault;
        self.held.retain(|held| {
            let gone = which(held);
            if gone {
                vault.wipe(held.slot);
            }
            !gone
        });
    }

    fn sign_request(&self, blob: &[u8], data: Vec<u8>, flags: super::SignFlags) -> Outcome {
        let failure = Outcome::Answer(AgentResponse::Failure);
        let Some(held) = self.held.iter().find(|held| held.public.encode() == blob) else { return failure };
        let Some(algorithm) = flags.algorithm(held.public.signature_algorithms()) else { return failure };
        let task = SignTask { key: held.public.clone(), comment: held.comment.clone(), data, algorithm };
        match held.confirm {
            true => Outcome::Confirm(Box::new(task)),
            false => Outcome::Answer(self.sign(&task)),
        }
    }

    /// Signs. The key may have been forgotten, or everything locked, since a person was asked.
    pub fn sign(&self, task: &SignTask) -> AgentResponse {
        let held = self.held.iter().find(|held| held.public == task.key).filter(|_| !self.is_locked());
        let signed = held.and_then(|held| {
            // In the vault the key is bytes; outside of it, it lives for the time of one signature, in memory that the
            // cryptographic library wipes.
            let key = PrivateKey::from_agent_form(&mut Reader::new(self.vault.load(held.slot))).ok()?;
            key.sign(&task.data, task.algorithm).ok()
        });
        match signed {
            Some(signature) => AgentResponse::Signature(signature.encode()),
            None => AgentResponse::Failure,
        }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.forget_all();
    }
}
