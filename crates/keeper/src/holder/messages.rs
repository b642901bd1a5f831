//! What is said on a holder's socket.

use lantern_operations::tunnel::LinkStatus;
use serde::{Deserialize, Serialize};

use crate::wanted::{Keeping, Wanted};

/// The version of what is said: another one is told as that, and not guessed at.
pub(crate) const VERSION: u32 = 1;

/// What is asked of a holder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HolderRequest {
    /// How its tunnels stand.
    Status,
    /// That it close tunnels: of this machine or of all, of these names or all.
    Close {
        /// The machine.
        machine: Option<String>,
        /// The names.
        names: Vec<String>,
    },
    /// That it look again what is behind them, and tell how they stand then.
    Probe {
        /// The machine.
        machine: Option<String>,
        /// The names.
        names: Vec<String>,
    },
    /// To join a connection; of the keeper alone.
    Join(Box<Wanted>),
    /// That it keep tunnels; of the keeper alone.
    Keep(Box<Keeping>),
    /// Which connections it holds; of the keeper alone.
    Links,
}

/// A request with the version of whoever asks.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Versioned<T> {
    pub(crate) version: u32,
    pub(crate) request: T,
}

/// What it answers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HolderAnswer {
    /// How its tunnels stand.
    Status(Vec<MachineReport>),
    /// Those that it has closed, each with its machine.
    Closed(Vec<(String, String)>),
    /// The connections that it holds.
    Links(Vec<LinkReport>),
    /// It does not do such things.
    NotHere,
    /// It is of another version than whoever asks.
    OtherVersion(u32),
}

/// A connection that the keeper holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LinkReport {
    /// The machine, as the user calls it.
    pub machine: String,
    /// The user logged in as.
    pub user: String,
    /// How long it has been there.
    pub age: std::time::Duration,
    /// How long nobody has used it; none: somebody does.
    pub idle: Option<std::time::Duration>,
    /// How many times it was asked for.
    pub uses: u64,
    /// Its last round trip.
    pub round_trip: Option<std::time::Duration>,
}

/// The tunnels of one machine that a process holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MachineReport {
    /// The machine, as the user calls it.
    pub machine: String,
    /// The process.
    pub process: u32,
    /// Whether that is the keeper.
    pub is_kept: bool,
    /// The link, and the tunnels.
    pub status: LinkStatus,
}
