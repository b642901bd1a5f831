//! What is said on a holder's socket.

use lantern_operations::tunnel::LinkStatus;
use serde::{Deserialize, Serialize};

/// The version of what is said: another one is told as that, and not guessed at.
pub(super) const VERSION: u32 = 1;

/// What is asked of a holder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
}

/// A request with the version of whoever asks.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Versioned<T> {
    pub(super) version: u32,
    pub(super) request: T,
}

/// What it answers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HolderAnswer {
    /// How its tunnels stand.
    Status(Vec<MachineReport>),
    /// Those that it has closed, each with its machine.
    Closed(Vec<(String, String)>),
    /// It is of another version than whoever asks.
    OtherVersion(u32),
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
