//! What can go wrong on the way from a simulated machine, as a stream that does it.

use std::io::{Error, ErrorKind, Result};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::time::{Sleep, sleep};

/// A switch on a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// The line is cut after this many bytes to the client.
    CutAfter(u64),
    /// The line is closed after this time.
    HangUpAfter(Duration),
    /// Nothing more comes after this many bytes; the line stays open.
    StallAfter(u64),
    /// The byte at this position is flipped.
    CorruptAt(u64),
    /// No more than this many bytes a second.
    SlowTo(u64),
    /// Something else than SSH answers.
    OtherService(&'static str),
    /// The connection is taken and nothing is ever said.
    Silent,
    /// Nothing listens: connections are refused.
    Closed,
    /// Connections are neither taken nor refused, as behind a firewall that drops packets.
    Filtered,
}

/// A client's connection with the fault built in.
pub(crate) struct FaultyStream {
    stream: TcpStream,
    fault: Option<Fault>,
    written: u64,
    pause: Option<Pin<Box<Sleep>>>,
}

impl FaultyStream {
    pub(crate) fn new(stream: TcpStream, fault: Option<Fault>) -> Self {
        Self { stream, fault, written: 0, pause: None }
    }

    /// How many of `len` bytes may go now; `None`: none ever again.
    fn allowance(&self, len: usize) -> Option<usize> {
        let until = |limit: u64| usize::try_from(limit.saturating_sub(self.written)).unwrap_or(usize::MAX);
        match self.fault {
            Some(Fault::CutAfter(limit) | Fault::StallAfter(limit)) => match until(limit) {
                0 => None,
                room => Some(room.min(len)),
            },
            // A tenth of a second's worth at a time.
            Some(Fault::SlowTo(rate)) => {
                Some(len.min(usize::try_from(rate / 10).unwrap_or(usize::MAX).max(1)))
            }
            _ => Some(len),
        }
    }
}

impl AsyncWrite for FaultyStream {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<Result<usize>> {
        if let Some(pause) = &mut self.pause {
            if pause.as_mut().poll(cx).is_pending() {
                return Poll::Pending;
            }
            self.pause = None;
        }
        let Some(room) = self.allowance(bytes.len()) else {
            return match self.fault {
                Some(Fault::CutAfter(_)) => Poll::Ready(Err(Error::new(ErrorKind::ConnectionAborted, "cut"))),
                _ => Poll::Pending,
            };
        };
        let bytes = &bytes[..room];
        let end = self.written + bytes.len() as u64;
        let sent = match self.fault {
            Some(Fault::CorruptAt(at)) if (self.written..end).contains(&at) => {
                let mut spoiled = bytes.to_vec();
                if let Some(byte) = usize::try_from(at - self.written).ok().and_then(|at| spoiled.get_mut(at))
                {
                    *byte ^= 0x55;
                }
                Pin::new(&mut self.stream).poll_write(cx, &spoiled)
            }
            _ => Pin::new(&mut self.stream).poll_write(cx, bytes),
        };
        if let Poll::Ready(Ok(sent)) = sent {
            self.written += sent as u64;
            if matches!(self.fault, Some(Fault::SlowTo(_))) {
                self.pause = Some(Box::pin(sleep(Duration::from_millis(100))));
            }
        }
        sent
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

impl AsyncRead for FaultyStream {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_read(cx, buffer)
    }
}
