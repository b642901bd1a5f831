//! The keeper: a background process of this program that holds unlocked keys and signs with them.
//!
//! `service` is the process, `vault` its memory, `status` what it tells about itself beyond the agent protocol, `client` how
//! the other commands reach it, `confirm` how it asks a person.

pub(crate) mod client;
pub(crate) mod confirm;
pub(crate) mod service;
pub(crate) mod status;
pub(crate) mod vault;

use std::path::PathBuf;

use lantern_book::Home;
use lantern_link::AgentSocket;

/// Its socket: in the home, so that every home has a keeper of its own.
pub(crate) fn socket_path(home: &Home) -> PathBuf {
    home.file("keeper.sock")
}

/// Our keeper's socket, and the one that the environment names.
pub(crate) fn agents(home: &Home) -> Vec<AgentSocket> {
    let keeper = socket_path(home);
    let mut agents = Vec::new();
    if keeper.exists() {
        agents.push(AgentSocket { path: keeper.clone(), what: "the keeper" });
    }
    if let Some(path) = std::env::var_os("SSH_AUTH_SOCK").map(PathBuf::from).filter(|path| *path != keeper) {
        agents.push(AgentSocket { path, what: "the agent" });
    }
    agents
}
