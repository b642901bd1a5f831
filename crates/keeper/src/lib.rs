//! The keeper: a background process that holds unlocked keys and signs with them, and how others reach it.
//!
//! `service` is the process, `vault` its memory, `status` what it tells about itself beyond the agent protocol, `client` how commands
//! reach it, `confirm` how it asks a person, by a program or at a `terminal`. What it does with a message is decided by [`lantern_ssh::agent::Keeper`], which
//! has no socket.

mod client;
mod confirm;
mod errands;
mod holder;
mod joining;
mod made_with;
mod outcomes;
mod passwords;
mod peer;
mod recalling;
mod service;
mod share;
mod stamp;
mod status;
mod talk;
mod terminal;
mod tunnels;
mod vault;
mod wanted;

use std::path::PathBuf;

use lantern_book::Home;

pub use client::{KeeperError, disown, find, must, recall, remember, status, stop_request};
pub use errands::{Explain, Trouble};
pub use holder::{
    Held, Holder, HolderAnswer, HolderRequest, LinkReport, MachineReport, Told, ask_all, keeper_socket,
};
pub use joining::{KeepError, KeeperShares, has_connections, is_older, keep};
pub use recalling::Recalling;
pub use service::{KeeperOptions, Sockets, listen, serve};
pub use status::{HeldKey, HeldPassword, Status};
pub use terminal::unforeseen;
pub use vault::close_process;
pub use wanted::{Keeping, Wanted};

/// Where it tells passwords: a socket of its own, that nobody names as an agent's. An agent's socket is handed on to machines, by other programs whole and
/// without a look at what is asked.
pub fn passwords_path(home: &Home) -> PathBuf {
    // No longer than the other: where that fits, this one does.
    home.file("held.sock")
}

/// Its socket: in the home, so that every home has a keeper of its own.
pub fn socket_path(home: &Home) -> PathBuf {
    home.file("keeper.sock")
}
