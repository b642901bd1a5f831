//! Processes that hold tunnels: each tells of its own, looks behind them and closes them when asked, on a socket in the home's folder `open`.
//!
//! A program in the foreground holds those that it opened; the keeper, those that it was handed. Whoever lists or closes tunnels asks all of them, and need
//! not know which is which. `docs/protocols.md` has what they say to each other.

mod beside;
mod client;
mod messages;
mod serve;

pub(crate) use beside::{Beside, Doing};
pub use client::{Told, ask_all};
pub use messages::{HolderAnswer, HolderRequest, LinkReport, MachineReport};
pub(crate) use messages::{VERSION, Versioned};
pub(crate) use serve::listen;
pub use serve::{Held, Holder};

/// The folder of the home where the sockets of all holders are.
const FOLDER: &str = "open";

/// Where the keeper answers what goes beyond keys: the longest path of its sockets.
pub fn keeper_socket(home: &lantern_book::Home) -> std::path::PathBuf {
    home.file(FOLDER).join("keeper.sock")
}
