//! The task that moves the bytes of a conversation about files.

use std::future::pending;
use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use lantern_ssh::sftp::SftpError;
use lantern_ssh::{Stream, neutralize_line};
use tokio::time::sleep_until;

use super::FilesError;
use super::carrier::Carrier;
use super::shared::Shared;
use crate::remote::ProcessEnd;

/// Most of what a service says beside its answers that is kept, in bytes.
const MAX_SAID: usize = 400;

/// What came first, and what came beside the answers.
#[derive(Default)]
struct Said {
    first: Vec<u8>,
    beside: Vec<u8>,
}

fn keep(place: &mut Vec<u8>, piece: &[u8]) {
    let room = MAX_SAID.saturating_sub(place.len());
    place.extend_from_slice(piece.get(..room).unwrap_or(piece));
}

/// Says this first, and moves bytes until the conversation is over, or nobody holds it any more.
pub(super) async fn drive(shared: Arc<Shared>, carrier: Carrier, first: Bytes) {
    let mut said = Said::default();
    let error = run(&shared, &carrier, first, &mut said).await;
    match error {
        Some(error) => shared.end(error),
        None => carrier.finish().await,
    }
}

async fn run(shared: &Shared, carrier: &Carrier, mut out: Bytes, said: &mut Said) -> Option<FilesError> {
    let machine = || shared.machine.clone();
    let mut speaks_beside = true;
    loop {
        let deadline = {
            let mut state = shared.lock();
            if state.is_abandoned {
                return None;
            }
            while out.is_empty()
                && let Some(piece) = state.client.poll_transmit()
            {
                out = piece;
            }
            state.deadline(shared.patience)
        };
        let too_long = async {
            match deadline {
                Some(deadline) => sleep_until(deadline.into()).await,
                None => pending().await,
            }
        };
        tokio::select! {
            piece = carrier.next(Stream::Main) => {
                let Some(piece) = piece else { return Some(ended(shared, carrier, said).await) };
                let mut state = shared.lock();
                let begins = state.client.extensions().is_none();
                if begins {
                    keep(&mut said.first, &piece);
                }
                let heard = state.client.handle_input(piece);
                state.deliver();
                drop(state);
                if begins {
                    shared.changed.notify_waiters();
                }
                match heard {
                    Ok(()) => {}
                    Err(SftpError::Length(_)) if begins => {
                        return Some(FilesError::Garbled { machine: machine(), said: words(&said.first) });
                    }
                    Err(source) => return Some(FilesError::Broken { machine: machine(), source }),
                }
            }
            piece = carrier.next(Stream::Stderr), if speaks_beside => match piece {
                Some(piece) => keep(&mut said.beside, &piece),
                None => speaks_beside = false,
            },
            sent = carrier.send(&mut out), if !out.is_empty() => {
                if sent.is_ok() {
                    // On a slow line, what it has taken is as good as an answer.
                    shared.lock().heard = Instant::now();
                } else {
                    // How it ended is told by what it reads as.
                    out.clear();
                    if carrier.is_over() {
                        return Some(ended(shared, carrier, said).await);
                    }
                }
            }
            () = shared.wake.notified() => {}
            () = too_long => return Some(shared.unanswered("files")),
        }
    }
}

/// How the conversation ended.
async fn ended(shared: &Shared, carrier: &Carrier, said: &Said) -> FilesError {
    let machine = shared.machine.clone();
    match tokio::time::timeout(shared.patience, carrier.ended()).await {
        Ok(ProcessEnd::Failed(error)) => error.into(),
        Ok(ProcessEnd::Exited(status)) if said.beside.is_empty() && status != 0 => {
            FilesError::Ended { machine, said: format!("it exited with status {status}") }
        }
        _ => FilesError::Ended { machine, said: words(&said.beside) },
    }
}

fn words(said: &[u8]) -> String {
    neutralize_line(String::from_utf8_lossy(said).trim(), MAX_SAID)
}
