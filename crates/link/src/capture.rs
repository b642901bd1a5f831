//! A command on a machine whose output we read ourselves.

use std::time::Duration;

use bytes::Bytes;
use lantern_ssh::{SessionRequest, Stream};
use tokio::time::timeout;

use crate::{Channel, ChannelEnd, LinkError, Trunk};

/// Most output that is kept of either stream, in bytes; the rest is dropped, and the command goes on.
pub(crate) const MAX_CAPTURED: usize = 1024 * 1024;

/// What a command left behind.
#[derive(Debug, Default)]
pub struct Captured {
    /// Its exit status; none when a signal ended it or it was refused.
    pub status: Option<u32>,
    /// Standard output.
    pub out: Vec<u8>,
    /// Standard error.
    pub err: Vec<u8>,
}

/// Runs a short command with this input. It may take as long as an answer may.
///
/// # Errors
/// No session, no end in time, or the connection was lost.
pub async fn capture(trunk: &Trunk, command: &str, input: &[u8]) -> Result<Captured, LinkError> {
    capture_within(trunk, command, input, trunk.answer_limit()).await
}

/// The same for a command that may take so long.
pub(crate) async fn capture_within(
    trunk: &Trunk,
    command: &str,
    input: &[u8],
    limit: Duration,
) -> Result<Captured, LinkError> {
    match timeout(limit, run(trunk, command, input)).await {
        Ok(captured) => captured,
        Err(_) => Err(LinkError::Unanswered {
            machine: trunk.machine().to_owned(),
            what: "the output of a short command",
            seconds: limit.as_secs(),
        }),
    }
}

async fn run(trunk: &Trunk, command: &str, input: &[u8]) -> Result<Captured, LinkError> {
    let channel = trunk.open_session().await?;
    let granted = channel.ask(&SessionRequest::Exec(command.as_bytes().to_vec()));
    let mut input = Bytes::copy_from_slice(input);
    let feed = async {
        // A command that reads no more has ended or closed its input: its status tells what that means.
        let _ = channel.send(&mut input).await;
        channel.send_eof();
    };
    let refused = async {
        if !granted.await? {
            channel.close();
        }
        Ok::<_, LinkError>(())
    };
    let (out, err, (), refused) =
        tokio::join!(collect(&channel, Stream::Main), collect(&channel, Stream::Stderr), feed, refused);
    refused?;
    match channel.ended().await {
        ChannelEnd::Exited(status) => Ok(Captured { status: Some(status), out, err }),
        ChannelEnd::Signaled { .. } | ChannelEnd::Closed => Ok(Captured { status: None, out, err }),
        ChannelEnd::Lost(source) => Err(LinkError::Lost { machine: trunk.machine().to_owned(), source }),
    }
}

async fn collect(channel: &Channel, stream: Stream) -> Vec<u8> {
    let mut kept = Vec::new();
    while let Some(data) = channel.next(stream).await {
        channel.consumed(data.len());
        let room = MAX_CAPTURED.saturating_sub(kept.len());
        kept.extend_from_slice(data.get(..room).unwrap_or(&data));
    }
    kept
}
