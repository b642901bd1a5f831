//! What a connection has to know beforehand.

use std::path::PathBuf;
use std::time::Duration;

use lantern_book::Home;
use lantern_keys::{Fingerprint, PublicKey};
use lantern_ssh::Offer;

use crate::AgentSocket;

/// How long each step may take.
#[derive(Debug, Clone, Copy)]
pub struct TimeLimits {
    /// For one address to answer.
    pub connect: Duration,
    /// For each answer of the server up to login.
    pub handshake: Duration,
    /// How often a silent server is asked whether it is there.
    pub keepalive: Duration,
}

impl Default for TimeLimits {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(10),
            handshake: Duration::from_secs(30),
            keepalive: Duration::from_secs(20),
        }
    }
}

/// Which keys may be offered.
#[derive(Debug)]
pub enum KeyChoice {
    /// All of the ring.
    Ring,
    /// All of the ring but this one: to prove that there is another way in.
    RingWithout(PublicKey),
    /// One of the ring, by name.
    Named(String),
    /// A file that need not be in the ring.
    File(PathBuf),
    /// None.
    Nothing,
}

/// Everything that a connection needs to know beforehand.
#[derive(Debug)]
pub struct ConnectRequest<'a> {
    /// Where book, trust and keys are.
    pub home: &'a Home,
    /// The machine's name, in messages and in the trust store.
    pub machine: &'a str,
    /// Where to dial.
    pub address: &'a str,
    /// And which port.
    pub port: u16,
    /// The user to log in as.
    pub user: &'a str,
    /// The keys to offer.
    pub keys: KeyChoice,
    /// Whether nothing but keys is tried: no password, no questions of the machine.
    pub keys_only: bool,
    /// Agents that may sign, in order; one that does not answer is passed over.
    pub agents: Vec<AgentSocket>,
    /// The fingerprint that the host key must have at first contact.
    pub expect: Option<Fingerprint>,
    /// How long steps may take.
    pub limits: TimeLimits,
    /// The algorithms to offer.
    pub offer: Offer,
}

impl ConnectRequest<'_> {
    /// Address and port as one word.
    pub(crate) fn place(&self) -> String {
        lantern_book::place(self.address, self.port)
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
