//! What answers behind a tunnel: whether anything does, and what it speaks.

mod certificate;
mod greeting;
mod look;
mod tls;

use serde::{Deserialize, Serialize};

pub use certificate::CertificateFacts;
pub(super) use greeting::Spoken;
pub use look::{probe_here, probe_there};

/// What answers behind a tunnel. Texts are as they came.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Behind {
    /// Nothing listens there, in the words of whoever tried.
    Refused(String),
    /// The server does not allow it, in its words.
    NotAllowed(String),
    /// It was not reached for another reason.
    NotReached(String),
    /// A web page over HTTP.
    Http {
        /// The status of its answer.
        status: u16,
    },
    /// TLS.
    Tls {
        /// What its certificate says; none: it showed none that can be read.
        certificate: Option<CertificateFacts>,
        /// Whether a web page answers over it.
        is_web: bool,
    },
    /// SSH, with its identification.
    Ssh(String),
    /// A mail server, with its greeting.
    Mail(String),
    /// A database, with what it says of itself.
    Database(String),
    /// Something else that says this first.
    Other(String),
    /// It takes connections and says nothing.
    Silent,
}

impl Behind {
    /// The scheme of what a browser is to be pointed to.
    pub fn scheme(&self) -> Option<&'static str> {
        match self {
            Self::Http { .. } => Some("http"),
            Self::Tls { is_web: true, .. } => Some("https"),
            _ => None,
        }
    }

    /// Whether anything answers.
    pub fn answers(&self) -> bool {
        !matches!(self, Self::Refused(_) | Self::NotAllowed(_) | Self::NotReached(_))
    }
}
