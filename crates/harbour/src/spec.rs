//! What a simulated machine is: its name and keys, its users, and what goes wrong on it.

use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;

use lantern_keys::{KeyAlgorithm, KeyError, PrivateKey, PublicKey, SecretString};
use lantern_ssh::sftp::{Extensions, Flaws};
use lantern_ssh::{Offer, RekeyPolicy};

use crate::acting::Acting;
use crate::{Fault, Service};

/// How a user proves who they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LoginRule {
    /// One of these methods will do.
    AnyOf(Vec<&'static str>),
    /// All of these, in this order.
    InTurn(Vec<&'static str>),
}

/// A user of a simulated machine.
#[derive(Debug, Clone)]
pub struct UserSpec {
    /// The name.
    pub name: String,
    /// The password, for `password` and as the first answer of `keyboard-interactive`.
    pub password: Option<SecretString>,
    /// Whether that password has expired and must be changed.
    pub password_expired: bool,
    /// The keys that may log in.
    pub keys: Vec<PublicKey>,
    /// The code that `keyboard-interactive` asks for in a round of its own.
    pub code: Option<SecretString>,
    /// What it takes.
    pub rule: LoginRule,
}

impl UserSpec {
    /// A user who logs in with a key or a password.
    pub fn new(name: &str, password: Option<&str>, keys: Vec<PublicKey>) -> Self {
        Self {
            name: name.to_owned(),
            password: password.map(|text| SecretString::new(text.to_owned())),
            password_expired: false,
            keys,
            code: None,
            rule: LoginRule::AnyOf(vec!["publickey", "password", "keyboard-interactive"]),
        }
    }
}

/// How a simulated machine serves its files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilesSpec {
    /// Whether it serves them at all.
    pub served: bool,
    /// What its server can do beyond the draft.
    pub extensions: Extensions,
    /// Bytes that there is room for.
    pub room: u64,
    /// Whether nothing can be written.
    pub read_only: bool,
    /// What its server does wrong.
    pub flaws: Flaws,
}

impl Default for FilesSpec {
    fn default() -> Self {
        Self {
            served: true,
            extensions: Extensions::all(),
            room: 64 << 30,
            read_only: false,
            flaws: Flaws::default(),
        }
    }
}

/// A simulated machine.
#[derive(Debug, Clone)]
pub struct MachineSpec {
    /// Its own name, as `hostname` prints it.
    pub name: String,
    /// The loopback address it listens on.
    pub address: IpAddr,
    /// The port; 0 takes a free one.
    pub port: u16,
    /// Its host keys.
    pub host_keys: Vec<Arc<PrivateKey>>,
    /// Its users.
    pub users: Vec<UserSpec>,
    /// The text before login.
    pub banner: Option<String>,
    /// The address that gateways know it by; it is told to nobody else.
    pub inner_address: Option<String>,
    /// Whether it passes connections on to machines with inner addresses.
    pub gateway: bool,
    /// What listens on its own loopback, by port. A machine without any, which is no gateway, forwards nothing.
    pub services: Vec<(u16, Service)>,
    /// Whether it listens on ports of its own for visitors.
    pub listens: bool,
    /// Whether its programs may draw on the displays of its visitors.
    pub displays: bool,
    /// Whether it forwards nothing, whatever else is said here.
    pub forbids_forwarding: bool,
    /// Whether it tells its host keys after login; it holds all of them, and presents `host_keys` in the order given.
    pub announces: bool,
    /// Whether each visitor's first channel has another number than the last one's.
    pub numbers_anew: bool,
    /// How files are served.
    pub files: FilesSpec,
    /// Who may act as other users there.
    pub acting: Acting,
    /// What goes wrong.
    pub fault: Option<Fault>,
    /// The algorithms it speaks.
    pub offer: Offer,
    /// When it asks for new keys.
    pub rekey: RekeyPolicy,
}

impl MachineSpec {
    /// A machine with an Ed25519 host key and no users, at 127.77.0.`number`.
    ///
    /// # Errors
    /// When no key can be made.
    pub fn new(name: &str, number: u8) -> Result<Self, KeyError> {
        Ok(Self {
            name: name.to_owned(),
            address: IpAddr::V4(Ipv4Addr::new(127, 77, 0, number)),
            port: 0,
            host_keys: vec![Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, name)?)],
            users: Vec::new(),
            banner: None,
            inner_address: None,
            gateway: false,
            services: Vec::new(),
            listens: false,
            displays: false,
            forbids_forwarding: false,
            announces: false,
            numbers_anew: false,
            files: FilesSpec::default(),
            acting: Acting::default(),
            fault: None,
            offer: lantern_link::our_offer(),
            rekey: RekeyPolicy::default(),
        })
    }
}
