//! Trust in host keys: what is remembered of a machine, and what a presented key means in its light.

use std::fmt;

use jiff::Timestamp;
use lantern_keys::{Fingerprint, PublicKey, TlsCertificate};
use serde::{Deserialize, Serialize};

use crate::Presented;

/// How a key came to be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verified {
    /// Someone went on at first contact without comparing.
    Accepted,
    /// It was the first to come, and the machine's policy is to trust that.
    FirstUse,
    /// Its fingerprint was pasted from elsewhere and agreed.
    Pasted,
    /// Its SHA-1 thumbprint was pasted from elsewhere and agreed: another certificate with the same can be made, at great cost.
    Thumbprint,
    /// Its fingerprint was given beforehand and agreed.
    Expected,
    /// The line that the machine's own console printed has its fingerprint.
    Carried,
    /// Read from a file that somebody else wrote, without a signature.
    Imported,
    /// Read from a file that somebody signed whose key was trusted for it.
    Signed,
    /// The machine announced it over a connection that an older key had proven, and proved that it holds it.
    Announced,
    /// The domain name system has its fingerprint, and a trusted resolver vouches for that.
    Dns,
    /// A certificate that an authority vouches for which is known here.
    Authority,
}

impl Verified {
    /// Whether anything was compared: not just the word of whoever answered first.
    pub fn is_compared(self) -> bool {
        !matches!(self, Self::Accepted | Self::FirstUse | Self::Imported)
    }
}

impl fmt::Display for Verified {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Accepted => "accepted without comparing",
            Self::FirstUse => "first use",
            Self::Pasted => "fingerprint pasted",
            Self::Thumbprint => "SHA-1 thumbprint pasted, which is weak",
            Self::Expected => "fingerprint expected",
            Self::Carried => "its own console's line",
            Self::Imported => "imported unsigned",
            Self::Signed => "imported, signed",
            Self::Announced => "announced by the machine",
            Self::Dns => "vouched for by DNS",
            Self::Authority => "vouched for by an authority",
        })
    }
}

/// A host key that a machine proved to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownKey {
    /// The key.
    pub key: PublicKey,
    /// How it came to be trusted.
    pub verified: Verified,
    /// Who vouched for it: the fingerprint of the key that signed the file it came from.
    pub by: Option<Fingerprint>,
    /// When it was first seen.
    pub first_seen: Timestamp,
    /// When it was last seen; noted once a day.
    pub last_seen: Timestamp,
}

impl KnownKey {
    /// A key seen now for the first time.
    pub fn new(key: PublicKey, verified: Verified, now: Timestamp) -> Self {
        Self { key, verified, by: None, first_seen: now, last_seen: now }
    }
}

impl fmt::Display for KnownKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let since = self.first_seen.strftime("%Y-%m-%d");
        write!(
            f,
            "{} {} ({}, first seen {since})",
            self.key.describe(),
            self.key.fingerprint(),
            self.verified
        )
    }
}

/// A TLS certificate that a machine may present.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownCertificate {
    /// The certificate in DER.
    pub der: Vec<u8>,
    /// How it came to be trusted.
    pub verified: Verified,
    /// When it was first seen.
    pub first_seen: Timestamp,
    /// When it was last seen.
    pub last_seen: Timestamp,
}

impl fmt::Display for KnownCertificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let since = self.first_seen.strftime("%Y-%m-%d");
        let key = TlsCertificate::read(&self.der)
            .map_or_else(|_| "a certificate".to_owned(), |read| read.describe());
        write!(f, "{key} {} ({}, first seen {since})", self.fingerprint(), self.verified)
    }
}

impl KnownCertificate {
    /// A certificate seen now for the first time.
    pub fn new(certificate: &TlsCertificate, verified: Verified, now: Timestamp) -> Self {
        Self { der: certificate.der().to_vec(), verified, first_seen: now, last_seen: now }
    }

    /// SHA-256 over the DER form.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of_blob(&self.der)
    }
}

/// By what a machine is known.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum KnownBy {
    /// A host key.
    Key(KnownKey),
    /// A certificate.
    Certificate(KnownCertificate),
}

impl KnownBy {
    /// How it came to be trusted.
    pub fn verified(&self) -> Verified {
        match self {
            Self::Key(known) => known.verified,
            Self::Certificate(known) => known.verified,
        }
    }

    /// What people call its key.
    pub fn describe(&self) -> String {
        match self {
            Self::Key(known) => known.key.describe(),
            Self::Certificate(known) => TlsCertificate::read(&known.der)
                .map_or_else(|_| "a certificate".to_owned(), |read| read.describe()),
        }
    }

    /// Its SHA-256 fingerprint.
    pub fn fingerprint(&self) -> Fingerprint {
        match self {
            Self::Key(known) => known.key.fingerprint(),
            Self::Certificate(known) => known.fingerprint(),
        }
    }
}

impl fmt::Display for KnownBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Key(key) => write!(f, "{key}"),
            Self::Certificate(certificate) => write!(f, "{certificate}"),
        }
    }
}

/// A key or certificate that must not be trusted any more, whoever presents it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revoked {
    /// Its fingerprint.
    pub fingerprint: Fingerprint,
    /// Why, in a few words.
    pub reason: String,
    /// Since when.
    pub since: Timestamp,
}

/// What is remembered of one machine.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TrustRecord {
    /// Its keys.
    pub keys: Vec<KnownKey>,
    /// Its TLS certificates.
    pub certificates: Vec<KnownCertificate>,
    /// Authorities whose word on its certificates is believed, for it alone.
    pub authorities: Vec<KnownCertificate>,
    /// Where it was met, as `address:port`, the latest last.
    pub addresses: Vec<String>,
}

impl TrustRecord {
    /// Whether this is among what it is known by.
    pub fn is_known_by(&self, presented: &Presented) -> bool {
        match presented {
            Presented::HostKey(key) => self.keys.iter().any(|known| known.key == *key),
            Presented::Certificate(certificate) => {
                self.certificates.iter().any(|known| known.der == certificate.der())
            }
        }
    }
}

/// What a presented key or certificate means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TrustVerdict {
    /// The machine's own key, at an address where it was met before.
    Known,
    /// The machine's own key, at a new address: a note, not an alarm.
    Moved {
        /// Where it was met before.
        from: Vec<String>,
    },
    /// Nothing is known of this machine.
    FirstContact {
        /// Other machines that have this very key: the first eight by name, where a whole fleet has it.
        same_key: Vec<String>,
        /// Other machines that were met at this address, with other keys; as many at the most.
        same_address: Vec<String>,
    },
    /// The key was revoked.
    Revoked(Revoked),
    /// The machine was known by others.
    Changed {
        /// Those.
        known: Vec<KnownBy>,
        /// Other machines that have the presented key; as many at the most.
        belongs_to: Vec<String>,
    },
}
