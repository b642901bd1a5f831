//! What a machine shows to prove who it is, whatever it is spoken to by.

use lantern_keys::{Fingerprint, PublicKey, TlsCertificate};

/// What a machine proved to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Presented {
    /// A host key, over SSH.
    HostKey(PublicKey),
    /// A certificate, over TLS, with the key that is in it.
    Certificate(TlsCertificate),
}

impl Presented {
    /// Its SHA-256 fingerprint.
    pub fn fingerprint(&self) -> Fingerprint {
        match self {
            Self::HostKey(key) => key.fingerprint(),
            Self::Certificate(certificate) => certificate.fingerprint(),
        }
    }

    /// What people call its key: "Ed25519", "RSA 2048".
    pub fn describe(&self) -> String {
        match self {
            Self::HostKey(key) => key.describe(),
            Self::Certificate(certificate) => certificate.describe(),
        }
    }

    /// What it is.
    pub fn noun(&self) -> &'static str {
        match self {
            Self::HostKey(_) => "host key",
            Self::Certificate(_) => "certificate",
        }
    }

    /// Several of what it is, in short.
    pub fn plural(&self) -> &'static str {
        match self {
            Self::HostKey(_) => "keys",
            Self::Certificate(_) => "certificates",
        }
    }

    /// The host key, where it is one.
    pub fn host_key(&self) -> Option<&PublicKey> {
        match self {
            Self::HostKey(key) => Some(key),
            Self::Certificate(_) => None,
        }
    }

    /// The certificate, where it is one.
    pub fn certificate(&self) -> Option<&TlsCertificate> {
        match self {
            Self::HostKey(_) => None,
            Self::Certificate(certificate) => Some(certificate),
        }
    }
}

impl From<PublicKey> for Presented {
    fn from(key: PublicKey) -> Self {
        Self::HostKey(key)
    }
}

impl From<TlsCertificate> for Presented {
    fn from(certificate: TlsCertificate) -> Self {
        Self::Certificate(certificate)
    }
}
