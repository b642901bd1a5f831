//! Which agents may sign for us: the keeper, and the one that the environment names.

use std::path::PathBuf;

use lantern_book::Home;
use lantern_keeper::socket_path;
use lantern_link::AgentSocket;

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
