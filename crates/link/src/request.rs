//! What a connection has to know beforehand.

use std::fmt::Debug;
use std::future::Future;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use lantern_book::{BookError, Hints, Home, Proxy, Resolver, TrustStore};
use lantern_keys::{Fingerprint, PublicKey};
use lantern_ssh::Offer;

use crate::line::Lines;
use crate::program::Opens;
use crate::{AgentSocket, Ask, LinkError, SharedRing, Trunk};

/// How often a silent server is asked whether it is there, before the link counts as dead.
pub(crate) const ASKED_MEANWHILE: u32 = 3;

/// How long each step may take.
#[derive(Debug, Clone, Copy)]
pub struct TimeLimits {
    /// For the resolver, for one address, and for a proxy to answer.
    pub connect: Duration,
    /// For each answer of the server until keys are agreed.
    pub handshake: Duration,
    /// For each answer of the server while logging in.
    pub login: Duration,
    /// Without any answer until the link counts as dead, asked three times meanwhile; none: never.
    pub dead_after: Option<Duration>,
}

impl Default for TimeLimits {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(10),
            handshake: Duration::from_secs(30),
            login: Duration::from_secs(60),
            dead_after: Some(Duration::from_secs(60)),
        }
    }
}

/// Which keys may be offered.
#[derive(Debug, Clone)]
pub enum KeyChoice {
    /// All of the ring.
    Ring,
    /// All of the ring but this one: to prove that there is another way in.
    RingWithout(PublicKey),
    /// These of the ring, by name, in this order.
    Named(Vec<String>),
    /// A file that need not be in the ring.
    File(PathBuf),
    /// None.
    Nothing,
}

/// What happens at first contact.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum TrustPolicy {
    /// A person is asked.
    #[default]
    Ask,
    /// It is refused.
    KnownOnly,
    /// The key is trusted, with a note.
    FirstUse,
}

/// What is known of machines.
#[derive(Debug, Default)]
pub struct Known {
    /// What they proved to be.
    pub trust: TrustStore,
    /// What their servers chose last.
    pub hints: Hints,
}

impl Known {
    /// Reads it.
    ///
    /// # Errors
    /// The trust store cannot be read.
    pub fn load(home: &Home) -> Result<Self, BookError> {
        Ok(Self { trust: TrustStore::load(home)?, hints: Hints::of(home) })
    }
}

/// What looking for a shared connection comes to; nothing: one has to be made.
pub type Finding<'a> = Pin<Box<dyn Future<Output = Option<Result<Trunk, LinkError>>> + Send + 'a>>;

/// Where connections are that several use: whoever connects asks for one first, and makes its own only where there is none to be had.
pub trait Shares: Send + Sync + Debug {
    /// One that is logged in just as this request says; made, with questions to `ask`, where that is what is done here.
    fn find<'a>(&'a self, request: &'a ConnectRequest, ask: &'a dyn Ask) -> Finding<'a>;
}

/// Everything that a connection needs to know beforehand.
#[derive(Debug, Clone)]
pub struct ConnectRequest {
    /// Where book, trust and keys are.
    pub home: Home,
    /// The machine's name, in messages and in the trust store.
    pub machine: String,
    /// Where to dial: host names and IP addresses, the likeliest first.
    pub addresses: Vec<String>,
    /// And which port.
    pub port: u16,
    /// Whether a slow address is overtaken by the next.
    pub race: bool,
    /// The proxy on the way.
    pub proxy: Option<Proxy>,
    /// The gateways on the way, the nearest first; the first one is dialed.
    pub via: Vec<ConnectRequest>,
    /// Whether it is a gateway on the way to another, and not where somebody wants to go.
    pub is_on_the_way: bool,
    /// The user to log in as.
    pub user: String,
    /// The keys to offer.
    pub keys: KeyChoice,
    /// Whether nothing but keys is tried: no password, no questions of the machine.
    pub keys_only: bool,
    /// Whether a key file is used that others on this computer may read.
    pub even_exposed: bool,
    /// Agents that may sign, in order; one that does not answer is passed over.
    pub agents: Vec<AgentSocket>,
    /// The fingerprint that the host key must have at first contact.
    pub expect: Option<Fingerprint>,
    /// What happens at first contact.
    pub trust: TrustPolicy,
    /// A validating resolver whose word on SSHFP records is believed.
    pub resolver: Option<Resolver>,
    /// Whether nothing that is learned about trust is kept: for those who only want to know.
    pub only_looking: bool,
    /// What is known, where it was read already: many that only look at once need not read it each. Whoever decides about trust reads it anew.
    pub known: Option<Arc<Known>>,
    /// The ring as many connections at once share it; none: it is read for this one.
    pub ring: Option<Arc<SharedRing>>,
    /// Whether the machine may ask for signatures over it: servers tell all sessions of a connection that one of them asked for that.
    pub forwards_agent: bool,
    /// What is opened first.
    pub opens: Opens,
    /// Who opens lines instead of the network.
    pub lines: Option<Arc<dyn Lines>>,
    /// Where there are connections that several use; none: it is one's own.
    pub shares: Option<Arc<dyn Shares>>,
    /// How long steps may take.
    pub limits: TimeLimits,
    /// The algorithms to offer.
    pub offer: Offer,
}

impl ConnectRequest {
    /// A request with the defaults.
    pub fn new(home: &Home, machine: &str, address: &str, port: u16, user: &str) -> Self {
        Self {
            home: home.clone(),
            machine: machine.to_owned(),
            addresses: vec![address.to_owned()],
            port,
            race: true,
            proxy: None,
            via: Vec::new(),
            is_on_the_way: false,
            user: user.to_owned(),
            keys: KeyChoice::Ring,
            keys_only: false,
            even_exposed: false,
            agents: Vec::new(),
            expect: None,
            trust: TrustPolicy::Ask,
            resolver: None,
            only_looking: false,
            known: None,
            ring: None,
            forwards_agent: false,
            opens: Opens::Nothing,
            lines: None,
            shares: None,
            limits: TimeLimits::default(),
            offer: our_offer(),
        }
    }

    /// Its first address and port as one word.
    pub fn place(&self) -> String {
        lantern_book::place(self.addresses.first().map_or("", String::as_str), self.port)
    }

    /// How the trust store knows the place: private addresses mean another machine behind another gateway.
    pub fn trust_place(&self) -> String {
        match self.via.last() {
            Some(gateway) => format!("{} via {}", self.place(), gateway.machine),
            None => self.place(),
        }
    }
}

/// Everything that we speak, in the order for this processor.
pub fn our_offer() -> Offer {
    #[cfg(any(target_arch = "x86_64", target_arch = "x86"))]
    let aes = std::arch::is_x86_feature_detected!("aes");
    #[cfg(target_arch = "aarch64")]
    let aes = std::arch::is_aarch64_feature_detected!("aes");
    #[cfg(not(any(target_arch = "x86_64", target_arch = "x86", target_arch = "aarch64")))]
    let aes = false;
    Offer::new(aes)
}
