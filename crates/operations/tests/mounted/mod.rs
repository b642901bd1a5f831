//! A mounted folder of a machine, without a kernel.

// Not every test needs all of it.
#![allow(dead_code, unreachable_pub)]

use std::net::SocketAddr;
use std::time::Duration;

use lantern_harbour::LitMachine;
use lantern_link::{Files, FilesError, Remote};
use lantern_operations::OperationError;
use lantern_operations::mount::{Lifeline, RemoteTree, TreeOptions};
use lantern_operations::tunnel::Connect;
use lantern_ssh::sftp::OpenFlags;

use crate::desk::Scene;
use crate::rig;

/// The folder that is mounted.
pub const ROOT: u64 = 1;
pub const BOTH: OpenFlags = OpenFlags { read: true, ..OpenFlags::WRITE };

pub fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime
        .block_on(async { tokio::time::timeout(Duration::from_secs(120), future).await.expect("it hangs") })
}

pub fn machine(scene: &Scene) -> LitMachine {
    scene.harbour.machines().first().unwrap().clone()
}

pub async fn files(connect: Connect) -> Result<Files, FilesError> {
    let trunk = connect().await.map_err(|error| match error {
        OperationError::Link(error) => FilesError::from(error),
        other => panic!("{other}"),
    })?;
    Remote::from(trunk).files().await
}

pub async fn tree(scene: &Scene, address: SocketAddr, options: TreeOptions) -> RemoteTree {
    let connect = rig::connect_at(scene, address);
    let first = files(connect.clone()).await.unwrap();
    let line = Lifeline::new(
        first,
        Box::new(move || {
            let connect = connect.clone();
            Box::pin(async move { files(connect).await.map_err(|error| (error, false)) })
        }),
    );
    RemoteTree::new(b"/srv".to_vec(), line, options)
}

pub fn usual() -> TreeOptions {
    TreeOptions { lasts: Duration::from_secs(60), read_only: false }
}

pub fn content(len: usize, seed: usize) -> Vec<u8> {
    (0..len).map(|at| ((at * 31 + at / 251 + seed) % 253) as u8).collect()
}
