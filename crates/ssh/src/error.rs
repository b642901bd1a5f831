//! What ends a connection, sorted by whose doing it is.

use lantern_keys::wire::WireError;
use lantern_keys::{Fingerprint, KeyError};

use crate::algorithm::NothingInCommon;
use crate::disconnect::Disconnect;

/// Why a connection ended or an operation failed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SshError {
    /// What answered does not speak SSH 2.
    #[error("not an SSH server: it answered {}", quoted(.answered))]
    NotSsh {
        /// The start of what it said.
        answered: String,
    },
    /// An SSH server that takes no more visitors now.
    #[error("it takes no more connections now: it answered {}", quoted(.answered))]
    Busy {
        /// What it said.
        answered: String,
    },
    /// A message does not have the form that its standard gives it.
    #[error("the peer sent a malformed {message}: {source}")]
    Malformed {
        /// The message.
        message: &'static str,
        /// What is wrong.
        source: WireError,
    },
    /// The peer broke a rule of the protocol.
    #[error("the peer broke the protocol: {rule}")]
    PeerBroke {
        /// The rule, with its section.
        rule: &'static str,
    },
    /// A message that has no place in the state we are in.
    #[error("the peer sent message {met} where {expected} was expected")]
    Unexpected {
        /// What could have come.
        expected: &'static str,
        /// The message number that came.
        met: u8,
    },
    /// The integrity of a packet could not be verified: damage on the line, or an attack.
    #[error("a packet failed its integrity check: the line is damaged or someone is tampering with it")]
    MacMismatch,
    /// The peers have no algorithm in common.
    #[error(transparent)]
    NothingInCommon(#[from] Box<NothingInCommon>),
    /// The server's host key or its signature is unusable.
    #[error("the server's host key cannot be used")]
    HostKey(#[source] KeyError),
    /// The server's signature over the key exchange is not that of the host key it showed.
    #[error(
        "the server's signature over the key exchange does not verify: bytes were changed on the way, by a damaged line or by someone in between, or the server does not hold the key that it shows"
    )]
    HostKeySignature(#[source] KeyError),
    /// The server is not what it was when it was last met, so that our guess would have led to another choice of algorithms.
    /// Connect again without a guess.
    #[error("the server's algorithms have changed since the last visit")]
    GuessOutdated,
    /// The server does not bear a session that is opened together with the login, or numbers its channels otherwise than before. Connect again without.
    #[error("the server opens no session together with the login")]
    EarlyUnwelcome,
    /// The server presented another host key in the middle of the connection.
    #[error("the server changed its host key in the middle of the connection, to {now}")]
    HostKeyChanged {
        /// The key it presents now.
        now: Fingerprint,
    },
    /// The user, through the caller, did not accept the host key.
    #[error("the host key was not accepted")]
    HostKeyRejected,
    /// A limit of ours was reached.
    #[error("the peer exceeded our limit of {limit} on {what}")]
    LimitExceeded {
        /// What is limited; see [`crate::limits`].
        what: &'static str,
        /// The limit.
        limit: u64,
    },
    /// The peer ended the connection with a reason.
    #[error("the peer disconnected: {0}")]
    Disconnected(Disconnect),
    /// The peer closed the line without a word.
    #[error("the peer closed the connection {during}")]
    Closed {
        /// What we were doing.
        during: &'static str,
    },
    /// The process that has logged in, whose connection this is a part of, is no more.
    #[error("the process that held it has ended")]
    HolderEnded,
    /// That process says how the connection has ended.
    #[error("{0}")]
    Told(String),
    /// We ended it, for this reason.
    #[error("{0}")]
    Given(&'static str),
    /// Something took longer than it may.
    #[error("no answer within {seconds} s {during}")]
    TimedOut {
        /// How long we waited, in seconds.
        seconds: u64,
        /// What we were doing.
        during: &'static str,
    },
    /// The caller asked for something that is not possible now.
    #[error("not possible now: {0}")]
    Misuse(&'static str),
    /// The cryptographic library failed at something that does not fail.
    #[error("the cryptographic library refused to {0}")]
    Crypto(&'static str),
    /// A key of ours could not be used.
    #[error("a key could not be used")]
    Key(#[source] KeyError),
}

impl SshError {
    /// For `map_err` on a message's reader.
    pub(crate) fn malformed(message: &'static str) -> impl Fn(WireError) -> Self {
        move |source| Self::Malformed { message, source }
    }
}

/// Untrusted text for a message: control characters made visible, at most 80 characters.
fn quoted(text: &str) -> String {
    let shown: String = text.chars().take(80).flat_map(char::escape_debug).collect();
    if shown.is_empty() { "nothing".into() } else { format!("\"{shown}\"") }
}
