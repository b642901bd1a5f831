//! Asking all holders of a home.

use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::Duration;

use lantern_book::Home;
use tokio::net::UnixStream;
use tokio::task::JoinSet;
use tokio::time::timeout;
use tracing::debug;

use super::FOLDER;
use super::messages::{HolderAnswer, HolderRequest, VERSION, Versioned};
use crate::talk::Talk;

/// How long a holder may take to answer: looking behind tunnels takes as long as what is there.
const PATIENCE: Duration = Duration::from_secs(30);

/// What all holders of a home told.
#[derive(Debug, Default)]
pub struct Told {
    /// Their answers.
    pub answers: Vec<HolderAnswer>,
    /// Those that did not answer, by the names of their sockets.
    pub silent: Vec<String>,
}

enum Asked {
    Answered(HolderAnswer),
    /// Nobody is there.
    Gone,
    Silent,
}

/// Asks every process that holds tunnels. What is left of those that are gone is taken away.
pub async fn ask_all(home: &Home, request: &HolderRequest) -> Told {
    let mut told = Told::default();
    let mut asked = JoinSet::new();
    for entry in std::fs::read_dir(home.file(FOLDER)).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.extension().is_some_and(|extension| extension == "sock") {
            let request = request.clone();
            asked.spawn(async move {
                let before = inode(&path);
                let outcome = timeout(PATIENCE, ask(&path, &request)).await.unwrap_or(Asked::Silent);
                // Another one may have taken its place meanwhile.
                if matches!(outcome, Asked::Gone) && inode(&path) == before {
                    let _ = std::fs::remove_file(&path);
                }
                (path, outcome)
            });
        }
    }
    while let Some(Ok((path, outcome))) = asked.join_next().await {
        match outcome {
            Asked::Answered(answer) => told.answers.push(answer),
            Asked::Gone => {}
            Asked::Silent => {
                let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
                told.silent.push(name);
            }
        }
    }
    told
}

fn inode(path: &Path) -> Option<u64> {
    std::fs::symlink_metadata(path).ok().map(|metadata| metadata.ino())
}

async fn ask(path: &Path, request: &HolderRequest) -> Asked {
    let mut talk = match UnixStream::connect(path).await {
        Ok(stream) => Talk::new(stream),
        Err(error) if error.kind() == ErrorKind::ConnectionRefused => return Asked::Gone,
        Err(error) => {
            debug!(%error, path = %path.display(), "a holder is not reached");
            return Asked::Silent;
        }
    };
    let message = Versioned { version: VERSION, request };
    let answered = async {
        talk.write(&message, &[]).await?;
        talk.read::<HolderAnswer>().await
    };
    match answered.await {
        Ok(Some(answer)) => Asked::Answered(answer.message),
        Ok(None) => Asked::Silent,
        Err(error) => {
            debug!(%error, path = %path.display(), "a holder answers oddly");
            Asked::Silent
        }
    }
}
