//! Why a machine could not be reached or used: one kind for each step, since each has another remedy.

use std::path::PathBuf;

use lantern_book::{BookError, KnownBy, Presented};
use lantern_keys::Fingerprint;
use lantern_ssh::{Disconnect, ListenAt, OpenFailure, PlanReport, SshError};

use crate::explained::Explained;
use crate::privilege::PrivilegeFailure;
use crate::winrm::WinrmFailure;

/// What ended an attempt or a session.
#[derive(Debug, thiserror::Error)]
pub enum LinkError {
    /// The name has no address.
    #[error("the name {address} was not found")]
    NameNotFound {
        /// The name.
        address: String,
        /// What the resolver says.
        source: std::io::Error,
    },
    /// No way leads there.
    #[error("no route to {place}")]
    NoRoute {
        /// Where.
        place: String,
        /// What the system says.
        source: std::io::Error,
    },
    /// The machine answered that nothing listens there.
    #[error("{place} refused the connection: nothing listens on that port")]
    Refused {
        /// Where.
        place: String,
    },
    /// Nothing came back.
    #[error("{place} did not answer within {seconds} s")]
    DialTimedOut {
        /// Where.
        place: String,
        /// How long we waited, in seconds.
        seconds: u64,
    },
    /// Another failure of the network.
    #[error("cannot connect to {place}")]
    Dial {
        /// Where.
        place: String,
        /// What the system says.
        source: std::io::Error,
    },
    /// A proxy did not let us through.
    #[error("the proxy {proxy} did not connect us with {to}")]
    Proxy {
        /// The proxy.
        proxy: String,
        /// Where we wanted to go.
        to: String,
        /// Why.
        source: ProxyError,
    },
    /// Something failed on the way to or through a gateway.
    #[error("at the gateway {gateway}")]
    Gateway {
        /// The gateway.
        gateway: String,
        /// What.
        source: Box<LinkError>,
    },
    /// The gateway opened no channel to the next machine.
    #[error("the gateway {gateway} did not connect us with {to}")]
    GatewayRefused {
        /// The gateway.
        gateway: String,
        /// Where we wanted to go.
        to: String,
        /// Why.
        source: OpenFailure,
    },
    /// The machine does not listen for us.
    #[error("{machine} does not listen for us at {at}")]
    ListenRefused {
        /// The machine.
        machine: String,
        /// Where it was to.
        at: ListenAt,
    },
    /// The protocol failed before login.
    #[error("cannot set up SSH with {place}")]
    Handshake {
        /// Where.
        place: String,
        /// Why.
        source: SshError,
    },
    /// The host key was not accepted.
    #[error(transparent)]
    Trust(Box<TrustFailure>),
    /// Login failed.
    #[error(transparent)]
    Auth(Box<AuthFailure>),
    /// The server opened no channel.
    #[error("{machine} did not open a session")]
    ChannelRefused {
        /// The machine.
        machine: String,
        /// Why.
        source: OpenFailure,
    },
    /// The server did not grant a request.
    #[error("{machine} refused the request `{request}`")]
    RequestRefused {
        /// The machine.
        machine: String,
        /// The request's name on the wire.
        request: &'static str,
    },
    /// The machine was asked something, and never said anything to it.
    #[error("{machine} did not answer when asked for {what}, within {seconds} s")]
    Unanswered {
        /// The machine.
        machine: String,
        /// What it was asked for.
        what: &'static str,
        /// How long we waited, in seconds.
        seconds: u64,
    },
    /// The connection broke after login.
    #[error("the connection to {machine} was lost")]
    Lost {
        /// The machine.
        machine: String,
        /// How.
        source: SshError,
    },
    /// A private key that is not ours alone.
    #[error("others on this computer may read {} (mode {mode:04o})", .path.display())]
    Exposed {
        /// Its file.
        path: PathBuf,
        /// Its permission bits.
        mode: u32,
    },
    /// Whoever made the connection for us failed, and says why.
    #[error("{}", .0.headline)]
    Elsewhere(Box<Explained>),
    /// What is spoken over HTTP failed.
    #[error(transparent)]
    Winrm(Box<WinrmFailure>),
    /// A command does not run as another user.
    #[error(transparent)]
    Privilege(#[from] PrivilegeFailure),
    /// A file of the book failed.
    #[error(transparent)]
    Book(#[from] BookError),
}

impl From<WinrmFailure> for LinkError {
    fn from(failure: WinrmFailure) -> Self {
        Self::Winrm(Box::new(failure))
    }
}

impl LinkError {
    /// The same, told of the proxy that was to be reached first.
    pub(crate) fn at_proxy(self, proxy: &lantern_book::Proxy, host: &str, port: u16) -> Self {
        let words = std::io::Error::other(chain(&self));
        Self::Proxy { proxy: proxy.place(), to: lantern_book::place(host, port), source: words.into() }
    }
}

/// Why a host key or a certificate was not accepted.
#[derive(Debug, thiserror::Error)]
pub enum TrustFailure {
    /// The person said no.
    #[error("the {noun} of {machine} was not accepted")]
    Rejected {
        /// The machine.
        machine: String,
        /// What it presented, in words.
        noun: &'static str,
    },
    /// There was nobody to ask.
    #[error("the {} of {machine} is not known, and there is nobody to ask", .presented.noun())]
    NoOneToAsk {
        /// The machine.
        machine: String,
        /// What it presented.
        presented: Presented,
        /// Other machines that have this key.
        belongs_to: Vec<String>,
    },
    /// It is not the key that was expected.
    #[error("{machine} presented the {} {}, expected was {expected}", .presented.noun(), .presented.fingerprint())]
    NotExpected {
        /// The machine.
        machine: String,
        /// What it presented.
        presented: Presented,
        /// The fingerprint that was given beforehand.
        expected: Fingerprint,
    },
    /// The machine's policy is to trust known keys only.
    #[error("the {} of {machine} is not known, and its policy is to trust known {} only", .presented.noun(), .presented.plural())]
    KnownOnly {
        /// The machine.
        machine: String,
        /// What it presented.
        presented: Presented,
        /// Other machines that have this key.
        belongs_to: Vec<String>,
    },
    /// The key was revoked.
    #[error("stopped: {machine} presents a {} that was revoked", .presented.noun())]
    Revoked {
        /// The machine.
        machine: String,
        /// What it presented.
        presented: Presented,
        /// Why it was revoked.
        reason: String,
    },
    /// The domain name system has other keys for the machine.
    #[error("stopped: the host key of {machine} is not among those that DNS vouches for")]
    NotInDns {
        /// The machine.
        machine: String,
        /// What it presented.
        presented: Presented,
    },
    /// The machine was known by another.
    #[error("stopped: {machine} presents another {} than it had", .presented.noun())]
    Changed {
        /// The machine.
        machine: String,
        /// Where it was reached.
        place: String,
        /// What it presented.
        presented: Presented,
        /// What it was known by.
        known: Vec<KnownBy>,
        /// How a certificate is akin to those, where it is one.
        kinship: Option<Kinship>,
        /// Other machines that have what it presented.
        belongs_to: Vec<String>,
    },
}

impl TrustFailure {
    /// Whether it is about a certificate; else it is about a host key.
    pub fn is_about_certificate(&self) -> bool {
        match self {
            Self::Rejected { noun, .. } => *noun == "certificate",
            Self::NoOneToAsk { presented, .. }
            | Self::NotExpected { presented, .. }
            | Self::KnownOnly { presented, .. }
            | Self::Revoked { presented, .. }
            | Self::NotInDns { presented, .. }
            | Self::Changed { presented, .. } => presented.certificate().is_some(),
        }
    }

    /// The details behind the headline, a line each.
    pub fn details(&self) -> Vec<String> {
        let (place, presented, known, belongs_to, kinship) = match self {
            Self::Changed { place, presented, known, belongs_to, kinship, .. } => {
                (place, presented, known, belongs_to, kinship)
            }
            Self::NoOneToAsk { presented, belongs_to, .. }
            | Self::KnownOnly { presented, belongs_to, .. } => {
                return std::iter::once(shown(presented)).chain(whose(belongs_to, presented)).collect();
            }
            Self::NotInDns { presented, .. } => {
                return vec![shown(presented)];
            }
            Self::Revoked { presented, reason, .. } => {
                return vec![shown(presented), format!("revoked because: {reason}")];
            }
            Self::Rejected { .. } | Self::NotExpected { .. } => return Vec::new(),
        };
        let mut lines = vec![
            format!("it was {}", known.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")),
            format!("it is  {} {}, at {place}", presented.describe(), presented.fingerprint()),
        ];
        lines.extend(kinship.map(|kinship| kinship.to_string()));
        let unknown = || match presented {
            Presented::HostKey(_) => "no other machine in the trust store has the new key".to_owned(),
            _ => "no other machine in the trust store has the new certificate".to_owned(),
        };
        lines.push(whose(belongs_to, presented).unwrap_or_else(unknown));
        lines
    }
}

/// Whose key it is, where it is another machine's.
fn whose(belongs_to: &[String], presented: &Presented) -> Option<String> {
    let noun = if presented.host_key().is_some() { "key" } else { "certificate" };
    (!belongs_to.is_empty())
        .then(|| format!("this is the {noun} of {}: is the address right?", belongs_to.join(", ")))
}

/// What was presented, in a line.
fn shown(presented: &Presented) -> String {
    format!("it presented {} {}", presented.describe(), presented.fingerprint())
}

/// How a new certificate is akin to the one that a machine was known by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kinship {
    /// It has the same key.
    SameKey,
    /// It says that the same issuer made it; nobody has verified that.
    SameIssuer,
    /// Neither.
    Neither,
}

impl std::fmt::Display for Kinship {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::SameKey => "it has the same key: it was renewed by whoever has that",
            Self::SameIssuer => {
                "it has another key, and names the same issuer: that may be a renewal, and proves nothing"
            }
            Self::Neither => "it has another key and another issuer",
        })
    }
}

/// Why login failed: as whom, what the server takes, and what became of everything that could be tried.
#[derive(Debug, thiserror::Error)]
#[error("{machine} did not let {user} in")]
pub struct AuthFailure {
    /// The machine.
    pub machine: String,
    /// The user.
    pub user: String,
    /// The methods that the server would take now.
    pub methods: Vec<String>,
    /// What was tried.
    pub report: Vec<PlanReport>,
    /// The names of keys that the server did not hear of: it allows few tries.
    pub not_offered: Vec<String>,
    /// Key files of the ring that were left out because others may read them, and their permission bits.
    pub exposed: Vec<(PathBuf, u32)>,
    /// The server's reason, where it ended the login itself: most often that there were too many tries.
    pub ended: Option<Disconnect>,
}

/// An error with its causes in one line, each said once.
pub fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let words = error.to_string();
        if !text.contains(&words) {
            text = format!("{text}: {words}");
        }
        cause = error.source();
    }
    text
}

/// Why a proxy did not let us through.
#[derive(Debug, thiserror::Error)]
pub enum ProxyError {
    /// The line to it broke.
    #[error("the line to it broke")]
    Io(#[from] std::io::Error),
    /// It did not answer in time.
    #[error("it did not answer within {0} s")]
    TimedOut(u64),
    /// What answers is no such proxy.
    #[error("it does not answer as {0} does")]
    NotAProxy(&'static str),
    /// It wants to know who asks.
    #[error("it wants a user and a password")]
    LoginWanted,
    /// It knows the user or the password as wrong.
    #[error("it did not take the user and password")]
    LoginRefused,
    /// It refused to connect us.
    #[error("it refused: {0}")]
    Refused(String),
    /// A host name or user that its protocol cannot carry.
    #[error("its protocol cannot carry a name of more than 255 bytes")]
    TooLong,
}
