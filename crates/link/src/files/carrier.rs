//! What carries a conversation about files: a process with its streams, or a session that answers in pieces.

use std::time::Duration;

use bytes::Bytes;
use lantern_ssh::Stream;
use tokio::time::timeout;

use super::in_pieces::InPieces;
use crate::remote::{InputEnded, Process, ProcessEnd};

/// How long a command of Windows has to end by itself, before its shell is ended under it.
const GOODBYE: Duration = Duration::from_secs(3);

/// One of them.
pub(super) enum Carrier {
    /// The streams of a process that ends with its connection.
    Process(Process),
    /// Those of a command of Windows, which stands there until its input ends.
    Command(Process),
    /// Pipelines of a session of PowerShell.
    Session(InPieces),
}

impl Carrier {
    /// The next piece of a stream; none at its end.
    pub(super) async fn next(&self, stream: Stream) -> Option<Bytes> {
        match (self, stream) {
            (Self::Process(process) | Self::Command(process), stream) => {
                let piece = process.next(stream).await?;
                process.consumed(piece.len());
                Some(piece)
            }
            (Self::Session(session), Stream::Main) => session.next().await,
            (Self::Session(_), Stream::Stderr) => None,
        }
    }

    /// Hands bytes over; what was taken is gone from `data`. Dropping the future loses nothing.
    pub(super) async fn send(&self, data: &mut Bytes) -> Result<(), InputEnded> {
        match self {
            Self::Process(process) | Self::Command(process) => process.send(data).await,
            Self::Session(session) => session.send(data).await,
        }
    }

    /// Whether nothing more comes of it.
    pub(super) fn is_over(&self) -> bool {
        match self {
            Self::Process(process) | Self::Command(process) => process.is_over(),
            Self::Session(session) => session.is_over(),
        }
    }

    /// Nobody asks any more: what would go on standing there is ended.
    pub(super) async fn finish(self) {
        if let Self::Command(process) = self {
            process.send_eof();
            let _ = timeout(GOODBYE, process.ended()).await;
        }
    }

    /// How it ended.
    pub(super) async fn ended(&self) -> ProcessEnd {
        match self {
            Self::Process(process) | Self::Command(process) => process.ended().await,
            Self::Session(session) => session.ended().await,
        }
    }
}
