//! The one loop between a socket and a protocol machine of either role: send, receive, arm the timer.

use std::future::{Future, poll_fn};
use std::io;
use std::pin::{Pin, pin};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use lantern_ssh::limits::RECEIVE_BLOCK;
use lantern_ssh::{Machine, SshError};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::time::{Sleep, sleep_until, timeout};
use tracing::debug;

/// The receive buffer is grown when less than this is free, in bytes.
const READ_LOW_WATER: usize = 64 * 1024;
/// Longest time for last words on a connection that is over.
const GOODBYE_TIME: Duration = Duration::from_secs(1);

/// What ends the pumping.
#[derive(Debug, thiserror::Error)]
pub enum PumpError {
    /// The socket failed.
    #[error("the network failed")]
    Io(#[from] io::Error),
    /// The protocol ended.
    #[error(transparent)]
    Ssh(#[from] SshError),
}

impl PumpError {
    /// How a connection was lost by it.
    pub(crate) fn lost_by(self) -> SshError {
        match self {
            Self::Ssh(error) => error,
            Self::Io(error) => {
                debug!(%error, "the line failed");
                SshError::Closed { during: "as the network failed" }
            }
        }
    }
}

/// A socket and a timer around a protocol machine, which the caller owns.
#[derive(Debug)]
pub struct Pump<S> {
    stream: S,
    timer: Pin<Box<Sleep>>,
    armed: Option<Instant>,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Pump<S> {
    /// Takes over a connected stream. Must be called within a runtime.
    pub fn new(stream: S) -> Self {
        Self { stream, timer: Box::pin(sleep_until(tokio::time::Instant::now())), armed: None }
    }

    /// Waits until something happened: bytes left, bytes came in and were worked on, or a deadline passed. Dropping
    /// the future loses nothing; a machine that has failed gives its error again at every call.
    ///
    /// # Errors
    /// What ended the connection. Last words have been sent if the socket took them at once.
    pub async fn turn(&mut self, machine: &mut impl Machine) -> Result<(), PumpError> {
        poll_fn(|cx| self.poll_turn(machine, cx)).await
    }

    /// As [`Self::turn`].
    pub fn poll_turn(
        &mut self,
        machine: &mut impl Machine,
        cx: &mut Context<'_>,
    ) -> Poll<Result<(), PumpError>> {
        let turn = match machine.failure() {
            Some(failure) => Poll::Ready(Err(failure.clone().into())),
            None => self.poll_io(machine, cx),
        };
        if matches!(turn, Poll::Ready(Err(PumpError::Ssh(_)))) {
            // Nobody waits for this: it is a packet, and there nearly always is room for one.
            let _ = self.poll_write(machine, cx);
        }
        turn
    }

    /// Sends what can be sent; whether anything was.
    fn poll_write(&mut self, machine: &mut impl Machine, cx: &mut Context<'_>) -> io::Result<bool> {
        let mut progress = false;
        loop {
            let pending = machine.poll_transmit(Instant::now());
            if pending.is_empty() {
                // A line that keeps bytes back until it is told passes them on now.
                let _ = Pin::new(&mut self.stream).poll_flush(cx)?;
                return Ok(progress);
            }
            match Pin::new(&mut self.stream).poll_write(cx, pending) {
                Poll::Ready(Ok(0)) => return Err(io::ErrorKind::WriteZero.into()),
                Poll::Ready(Ok(sent)) => {
                    machine.sent(sent);
                    progress = true;
                }
                Poll::Ready(Err(error)) => return Err(error),
                Poll::Pending => return Ok(progress),
            }
        }
    }

    fn poll_io(&mut self, machine: &mut impl Machine, cx: &mut Context<'_>) -> Poll<Result<(), PumpError>> {
        let written = self.poll_write(machine, cx);
        if let Some(failure) = machine.failure() {
            return Poll::Ready(Err(failure.clone().into()));
        }
        if machine.wants_input() {
            let buffer = machine.receive_buffer();
            if buffer.capacity() - buffer.len() < READ_LOW_WATER {
                buffer.reserve(RECEIVE_BLOCK);
            }
            match pin!(self.stream.read_buf(buffer)).poll(cx) {
                Poll::Ready(Ok(0)) => return Poll::Ready(Err(machine.handle_end().into())),
                Poll::Ready(Ok(_)) => {
                    machine.handle_input(Instant::now())?;
                    return Poll::Ready(Ok(()));
                }
                Poll::Ready(Err(error)) => return Poll::Ready(Err(ended_by(error, machine))),
                Poll::Pending => {}
            }
        }
        match written {
            // A peer that closed while we were sending may have said why: that was read first.
            Err(error) => Poll::Ready(Err(ended_by(error, machine))),
            Ok(true) => Poll::Ready(Ok(())),
            Ok(false) => self.poll_timer(machine, cx),
        }
    }

    fn poll_timer(
        &mut self,
        machine: &mut impl Machine,
        cx: &mut Context<'_>,
    ) -> Poll<Result<(), PumpError>> {
        let Some(deadline) = machine.poll_timeout() else { return Poll::Pending };
        if self.armed != Some(deadline) {
            self.armed = Some(deadline);
            self.timer.as_mut().reset(deadline.into());
        }
        if self.timer.as_mut().poll(cx).is_pending() {
            return Poll::Pending;
        }
        self.armed = None;
        machine.handle_timeout(Instant::now())?;
        Poll::Ready(Ok(()))
    }

    /// Sends last words as far as the socket takes them at once: nobody is kept waiting for that.
    pub async fn say_goodbye(&mut self, machine: &mut impl Machine) {
        poll_fn(|cx| {
            let _ = self.poll_write(machine, cx);
            Poll::Ready(())
        })
        .await;
    }

    /// Sends last words and closes, within a second.
    pub async fn finish(&mut self, last_words: &[u8]) {
        let goodbye = async {
            self.stream.write_all(last_words).await?;
            self.stream.shutdown().await
        };
        // The connection is over either way.
        let _ = timeout(GOODBYE_TIME, goodbye).await;
    }
}

/// A peer that is gone is the end of the connection, which means something else at each stage; other failures are the network's.
fn ended_by(error: io::Error, machine: &mut impl Machine) -> PumpError {
    match error.kind() {
        io::ErrorKind::ConnectionReset
        | io::ErrorKind::ConnectionAborted
        | io::ErrorKind::BrokenPipe
        | io::ErrorKind::WriteZero => machine.handle_end().into(),
        _ => error.into(),
    }
}
