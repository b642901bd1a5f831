//! A channel joined with a connection of this computer: bytes, half-closes and resets, both ways.

use std::io::{self, ErrorKind};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use lantern_ssh::Stream;
use tokio::io::Interest;
use tokio::time::timeout;

use super::LocalStream;
use crate::Channel;

/// How much is read at once at first, and at most, in bytes: what waits for more of it holds no buffer at all.
const MIN_READ: usize = 4 * 1024;
const MAX_READ: usize = 64 * 1024;
/// How long a channel may take to close, when both sides have said everything.
const CLOSING_TIME: Duration = Duration::from_secs(30);

/// Bytes that have passed.
#[derive(Debug, Default)]
pub struct Meter {
    /// To the machine.
    pub to_machine: AtomicU64,
    /// From the machine.
    pub from_machine: AtomicU64,
}

/// Hears of what passes.
pub trait Passing: Sync {
    /// This went to the machine.
    fn outward(&self, piece: &[u8]);
    /// So many bytes came from it.
    fn inward(&self, bytes: usize);
}

impl Passing for Meter {
    fn outward(&self, piece: &[u8]) {
        self.to_machine.fetch_add(piece.len() as u64, Ordering::Relaxed);
    }

    fn inward(&self, bytes: usize) {
        self.from_machine.fetch_add(bytes as u64, Ordering::Relaxed);
    }
}

/// It was broken off by one side, and not ended; the other side was told the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Broken;

/// Passes everything on until both sides have ended it, or one has broken it off. `first` is what was read of the connection before.
///
/// # Errors
/// [`Broken`].
pub async fn relay(
    channel: Channel,
    local: LocalStream,
    first: Bytes,
    passing: &dyn Passing,
) -> Result<(), Broken> {
    let outward = async {
        let ended = to_machine(&channel, &local, first, passing).await?;
        if ended {
            channel.send_eof();
        }
        Ok::<_, Broken>(())
    };
    match tokio::try_join!(outward, from_machine(&channel, &local, passing)) {
        Ok(_) => {
            channel.close();
            let _ = timeout(CLOSING_TIME, channel.ended()).await;
            Ok(())
        }
        // Dropped, the channel is closed without an end before (RFC 4254 §5.3).
        Err(Broken) => {
            local.reset();
            Err(Broken)
        }
    }
}

/// Until the connection has ended, or the channel takes no more; whether it was the former.
async fn to_machine(
    channel: &Channel,
    local: &LocalStream,
    first: Bytes,
    passing: &dyn Passing,
) -> Result<bool, Broken> {
    let mut size = MIN_READ;
    let mut piece = first;
    loop {
        passing.outward(&piece);
        tokio::select! {
            sent = channel.send(&mut piece) => if sent.is_err() {
                return Ok(false);
            },
            // A caller that goes away while the machine takes nothing.
            Ok(ready) = local.ready(Interest::ERROR), if !piece.is_empty() => {
                if ready.is_error() {
                    return Err(Broken);
                }
            }
        }
        piece = tokio::select! {
            read = read(local, &mut size) => match read {
                Ok(piece) if piece.is_empty() => return Ok(true),
                Ok(piece) => piece,
                Err(_) => return Err(Broken),
            },
            // Whatever else the caller has to say, nobody takes it.
            _ = channel.ended() => return Ok(false),
        };
    }
}

/// The next piece; an empty one at the end.
async fn read(local: &LocalStream, size: &mut usize) -> io::Result<Bytes> {
    loop {
        local.ready(Interest::READABLE).await?;
        let mut buffer = BytesMut::with_capacity(*size);
        match local.try_read(&mut buffer) {
            Ok(len) => {
                // Who fills it has more; who sends little does not need as much.
                *size = if len == *size {
                    (*size * 2).min(MAX_READ)
                } else {
                    len.next_power_of_two().clamp(MIN_READ, MAX_READ)
                };
                return Ok(buffer.freeze());
            }
            Err(error) if error.kind() == ErrorKind::WouldBlock => {}
            Err(error) => return Err(error),
        }
    }
}

/// Until the machine has ended it.
async fn from_machine(channel: &Channel, local: &LocalStream, passing: &dyn Passing) -> Result<(), Broken> {
    loop {
        let piece = tokio::select! {
            piece = channel.next(Stream::Main) => piece,
            // Nothing belongs there, and what comes is not to hold up the rest.
            Some(stray) = channel.next(Stream::Stderr) => {
                channel.consumed(stray.len());
                continue;
            }
        };
        let Some(mut piece) = piece else { break };
        let len = piece.len();
        if local.write_all(&mut piece).await.is_err() {
            return Err(Broken);
        }
        channel.consumed(len);
        passing.inward(len);
    }
    match channel.is_finished_by_peer() {
        true => {
            local.finish();
            Ok(())
        }
        false => Err(Broken),
    }
}
