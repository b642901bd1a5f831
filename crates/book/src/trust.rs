//! Trust in host keys: what is remembered of a machine, and what a presented key means in its light.

use std::fmt;

use jiff::Timestamp;
use lantern_keys::PublicKey;
use serde::{Deserialize, Serialize};

/// How a key came to be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verified {
    /// Someone said yes at first contact.
    Accepted,
    /// Its fingerprint was pasted from elsewhere and agreed.
    Pasted,
    /// Its fingerprint was given beforehand and agreed.
    Expected,
}

impl fmt::Display for Verified {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Accepted => "accepted without comparing",
            Self::Pasted => "fingerprint pasted",
            Self::Expected => "fingerprint expected",
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
    /// When it was first seen.
    pub first_seen: Timestamp,
    /// When it was last seen; noted once a day.
    pub last_seen: Timestamp,
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

/// What is remembered of one machine.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TrustRecord {
    /// Its keys.
    pub keys: Vec<KnownKey>,
    /// Where it was met, as `address:port`, the latest last.
    pub addresses: Vec<String>,
}

/// What a presented key means.
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
        /// Other machines that have this very key.
        same_key: Vec<String>,
        /// Other machines that were met at this address, with other keys.
        same_address: Vec<String>,
    },
    /// The machine was known by other keys.
    Changed {
        /// Those keys.
        known: Vec<KnownKey>,
        /// Other machines that have the presented key.
        belongs_to: Vec<String>,
    },
}
