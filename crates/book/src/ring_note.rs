//! `keys/ring.toml`: what the key files cannot say.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What is noted of one key.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct KeyNote {
    /// When it was made, or imported when that is all that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<Timestamp>,
    /// The file it was imported from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub imported_from: Option<String>,
    /// The key that takes its place, from the moment that a rotation begins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replaced_by: Option<String>,
    /// Whether it was made for certificates of TLS: it is offered to no server, unless it was installed there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub for_certificates: bool,
    /// Where its public half was installed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub installed: Vec<Installed>,
}

/// One place where a public half was installed, and proven to log in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Installed {
    /// The machine, by name or place.
    pub machine: String,
    /// The user there.
    pub user: String,
    /// When.
    pub at: Timestamp,
    /// The options of its line; empty without limits.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub limits: String,
}

/// The file.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct RingForm {
    #[serde(default)]
    pub(crate) keys: BTreeMap<String, KeyNote>,
}

impl KeyNote {
    /// Notes an installation, in place of an older note of the same place.
    pub fn note_installed(&mut self, place: Installed) {
        self.note_withdrawn(&place.machine, &place.user);
        self.installed.push(place);
    }

    /// Forgets an installation.
    pub fn note_withdrawn(&mut self, machine: &str, user: &str) {
        self.installed.retain(|place| place.machine != machine || place.user != user);
    }
}
