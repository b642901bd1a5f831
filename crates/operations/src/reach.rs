//! What is said for one connection, and why a machine cannot even be tried.

use std::sync::Arc;
use std::time::Duration;

use lantern_book::BookError;
use lantern_keys::Fingerprint;
use lantern_link::{AgentSocket, KerberosPlaces, KeyChoice, Opens, SharedRing, Shares, TimeLimits};

/// Why a machine cannot even be tried.
#[derive(Debug, thiserror::Error)]
pub enum ReachError {
    /// The book, or a name that is not in it.
    #[error(transparent)]
    Book(#[from] BookError),
    /// A proxy that is none.
    #[error("the proxy {text} {rule}")]
    Proxy {
        /// What was given.
        text: String,
        /// What it would have to be.
        rule: &'static str,
        /// By an option; else by the book.
        typed: bool,
    },
    /// The book knows no address.
    #[error("the book has no address for {machine}")]
    NoAddress {
        /// Of this machine.
        machine: String,
    },
    /// Nothing says as whom to log in.
    #[error("no user to log in as")]
    NoUser,
    /// It is spoken to by WinRM, and what is wanted needs SSH.
    #[error("{machine} is spoken to by WinRM, and this needs SSH")]
    Winrm {
        /// The machine.
        machine: String,
    },
    /// Its password would be sent in the clear.
    #[error("{machine} is spoken to without TLS, and its `login-by` would send the password as it is")]
    ClearPassword {
        /// The machine.
        machine: String,
    },
    /// A certificate proves nothing where there is no TLS.
    #[error("{machine} is spoken to without TLS, and its `login-by` wants a certificate")]
    NoTls {
        /// The machine.
        machine: String,
    },
    /// Nothing says which certificate.
    #[error("`login-by` wants a certificate for {machine}, and `certificate` does not say which")]
    NoCertificate {
        /// The machine.
        machine: String,
    },
}

/// What is said for one connection, and goes before what the book says.
#[derive(Debug, Clone, Default)]
pub struct ReachOptions {
    /// The user to log in as.
    pub user: Option<String>,
    /// The image that says the user.
    pub image: Option<String>,
    /// Where to dial, the likeliest first; empty: as the book or the one-off says.
    pub addresses: Vec<String>,
    /// The keys to offer.
    pub keys: Option<KeyChoice>,
    /// Whether a key file is used that others on this computer may read.
    pub even_exposed: bool,
    /// Machines to go through, the nearest first; empty: as the book says.
    pub gateways: Vec<String>,
    /// The proxy to go through, as a URI.
    pub proxy: Option<String>,
    /// The fingerprint that the host key must have at first contact.
    pub expect: Option<Fingerprint>,
    /// How long steps may take.
    pub limits: LimitOptions,
    /// Agents that may sign.
    pub agents: Vec<AgentSocket>,
    /// Whether the machine may ask for signatures.
    pub forwards_agent: bool,
    /// What is opened first.
    pub opens: Opens,
    /// Where there are connections that several use.
    pub shares: Option<Arc<dyn Shares>>,
    /// The key ring as many machines at once share it: each key is opened once.
    pub ring: Option<Arc<SharedRing>>,
    /// Who we are on this computer: the user where nothing else says one.
    pub local_user: Option<String>,
    /// Where the system keeps what it says of Kerberos.
    pub kerberos: KerberosPlaces,
}

/// How long steps may take, where something is said about it.
#[derive(Debug, Clone, Copy, Default)]
pub struct LimitOptions {
    /// For an address to answer.
    pub connect: Option<Duration>,
    /// For each answer until keys are agreed.
    pub handshake: Option<Duration>,
    /// For each answer while logging in.
    pub login: Option<Duration>,
    /// Without any answer until the link counts as dead; zero: never.
    pub dead_after: Option<Duration>,
}

impl LimitOptions {
    /// These, and the book's for the rest.
    pub fn over(self, book: TimeLimits) -> TimeLimits {
        TimeLimits {
            connect: self.connect.unwrap_or(book.connect),
            handshake: self.handshake.unwrap_or(book.handshake),
            login: self.login.unwrap_or(book.login),
            dead_after: match self.dead_after {
                Some(Duration::ZERO) => None,
                Some(time) => Some(time),
                None => book.dead_after,
            },
        }
    }
}
