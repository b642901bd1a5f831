//! What shells complete of a machine's files: through a connection that the keeper holds already, within a moment or not at all.

use std::time::Duration;

use lantern_book::{Home, MachineBook};
use lantern_keeper::{HolderAnswer, HolderRequest, KeeperShares, ask_all};
use lantern_link::{Files, Nobody, RemoteRequest, Shares};
use lantern_operations::{ReachOptions, Target};
use lantern_ssh::sftp::FileKind;

use crate::cli::settings::{agents, kerberos, local_user};

/// Longest that somebody waits who has pressed a key.
const PATIENCE: Duration = Duration::from_millis(300);
/// Most names that are shown.
const MOST: usize = 500;

/// The paths on a machine that begin like this one; none where the keeper has no connection to it, or it takes too long.
pub(super) fn complete(home: &Home, machine: &str, path: &str) -> Vec<String> {
    let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else {
        return Vec::new();
    };
    let found = runtime.block_on(async { tokio::time::timeout(PATIENCE, look(home, machine, path)).await });
    runtime.shutdown_background();
    found.ok().flatten().unwrap_or_default()
}

async fn look(home: &Home, machine: &str, path: &str) -> Option<Vec<String>> {
    // Nothing is connected to for this.
    let told = ask_all(home, &HolderRequest::Links).await;
    let has_one = told.answers.iter().any(
        |answer| matches!(answer, HolderAnswer::Links(links) if links.iter().any(|link| link.machine == machine)),
    );
    if !has_one {
        return None;
    }
    // As a command without options says it: by the same, it is the same connection.
    let options = ReachOptions {
        agents: agents(home),
        local_user: local_user(),
        kerberos: kerberos(),
        ..ReachOptions::default()
    };
    let target = Target::find(home, &MachineBook::load(home).ok()?, machine).ok()?;
    let RemoteRequest::Ssh(request) = target.remote_request(home, &options).ok()? else { return None };
    let trunk = KeeperShares::new(home, machine).find(&request, &Nobody).await?.ok()?;
    let files = Files::begin(&trunk).await.ok()?;
    let (folder, begun) = path
        .rsplit_once('/')
        .map_or(("", path), |(folder, begun)| (path.get(..=folder.len()).unwrap_or(folder), begun));
    let entries = files.list(if folder.is_empty() { b"." } else { folder.as_bytes() }).await.ok()?;
    let mut found: Vec<String> = entries
        .into_iter()
        .filter_map(|entry| Some((String::from_utf8(entry.name).ok()?, entry.attributes.kind())))
        .filter(|(name, _)| name.starts_with(begun) && (!name.starts_with('.') || begun.starts_with('.')))
        // What would steer a terminal is not put on one.
        .filter(|(name, _)| !name.chars().any(|c| c.is_control() || lantern_ssh::is_invisible(c)))
        .map(|(name, kind)| format!("{folder}{name}{}", if kind == FileKind::Folder { "/" } else { "" }))
        .collect();
    found.sort_unstable();
    found.truncate(MOST);
    Some(found)
}
