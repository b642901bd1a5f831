//! Scripts that prepare a machine to be reached, pasted on its own console; what they say comes back as one line.
//!
//! A script is text of ours with a few values in front of it. It defines what it does, and does nothing before its last line has arrived: half a paste
//! changes nothing. Nothing in it means anything to the line editor of a console (`words.rs`; `tests/prepare_scripts.rs` holds every script to it).

mod proof;
mod sources;
mod unix;
mod windows;
mod words;

use std::fmt;
use std::net::{IpAddr, Ipv4Addr};

use jiff::civil::Date;
use lantern_keys::SecretString;

use crate::source_address::source_address;
use crate::target::Target;

pub use proof::{LeaveProofError, leave_proof, random_word};
pub use sources::{Source, SourceError};
pub use windows::Bundle;

/// What a machine runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum System {
    /// Windows 10, Windows Server 2016 and later.
    Windows,
    /// Debian, and what is made from it.
    Debian,
    /// Red Hat, Fedora, and what is made from them.
    RedHat,
    /// SUSE.
    Suse,
}

impl System {
    /// Its word in options and scripts.
    pub fn word(self) -> &'static str {
        match self {
            Self::Windows => "windows",
            Self::Debian => "debian",
            Self::RedHat => "redhat",
            Self::Suse => "suse",
        }
    }
}

impl fmt::Display for System {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// An address that a machine is to keep.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FixedAddress {
    /// The address.
    pub address: Ipv4Addr,
    /// How many of its bits are the network's.
    pub length: u8,
    /// The router on the way out; the present one when none is said.
    pub router: Option<Ipv4Addr>,
    /// Who is asked for names; the present ones when none are said.
    pub resolvers: Vec<Ipv4Addr>,
}

/// What a script is to do.
#[derive(Debug, Clone)]
pub enum Deed {
    /// Let us in, and print the line.
    Prepare {
        /// The address that it keeps from then on.
        address: Option<FixedAddress>,
    },
    /// Let nobody in by a password any more, where this was left by a login by key.
    PasswordsOff {
        /// The SHA-256 of what was left, in hexadecimal.
        proof: String,
    },
    /// Take all of it back.
    Undo,
}

/// By what the machine is to be reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Service {
    /// SSH.
    Ssh,
    /// WinRM over TLS.
    Winrm {
        /// What its certificate is for: names and addresses, the first of which is its subject.
        names: Vec<String>,
        /// The certificate, where it is not made there.
        bundle: Option<Bundle>,
    },
}

/// What a script is made from.
#[derive(Debug, Clone)]
pub struct Script {
    /// The machine.
    pub name: String,
    /// What it runs.
    pub system: System,
    /// By what it is to be reached.
    pub service: Service,
    /// Who logs in.
    pub user: String,
    /// The lines of the keys that are let in.
    pub keys: Vec<String>,
    /// From where.
    pub from: Vec<Source>,
    /// What its line is proven by.
    pub secret: SecretString,
    /// The day on which it is made.
    pub day: Date,
    /// What it does.
    pub deed: Deed,
}

impl Script {
    /// Its text, to be pasted.
    pub fn text(&self) -> SecretString {
        match self.system {
            System::Windows => windows::text(self),
            System::Debian | System::RedHat | System::Suse => unix::text(self),
        }
    }
}

/// By which addresses a machine sees this computer, as far as that can be known from here; for one behind gateways, the last gateway's address. A machine
/// on a port of this computer sees what maps the port, which nobody here knows.
pub async fn seen_from(target: &Target) -> Vec<Source> {
    let is_told = |address: &IpAddr| !address.is_loopback();
    if let Some(gateway) = target.via.last() {
        let addresses = gateway.addresses.iter().filter_map(|address| address.parse().ok());
        return addresses.filter(is_told).map(Source::of).collect();
    }
    let mut seen: Vec<Source> = Vec::new();
    for address in &target.addresses {
        let places = tokio::net::lookup_host((address.as_str(), target.port)).await.into_iter().flatten();
        let ours = places.filter_map(|place| source_address(&place.to_string())).filter(is_told);
        for source in ours.map(Source::of) {
            if !seen.contains(&source) {
                seen.push(source);
            }
        }
    }
    seen
}
