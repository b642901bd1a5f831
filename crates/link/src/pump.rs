//! The one loop between a socket and a protocol machine of either role: send, receive, arm the timer.

use std::future::{Future, poll_fn};
use std::pin::{Pin, pin};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use lantern_ssh::{Machine, SshError};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::time::{Sleep, sleep_until, timeout};

/// Room made in the receive buffer before a read, in bytes: several of the largest packets.
const READ_SIZE: usize = 256 * 1024;
/// The buffer is grown when less than this is free, in bytes.
const READ_LOW_WATER: usize = 64 * 1024;
/// Longest time for last words on a connection that is over.
const GOODBYE_TIME: Duration = Duration::from_secs(1);

/// What ends the pumping.
#[derive(Debug, thiserror::Error)]
pub enum PumpError {
    /// The socket failed.
    #[error("the network failed")]
    Io(#[from] std::io::Error),
    /// The protocol ended.
    #[error(transparent)]
    Ssh(#[from] SshError),
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
    /// the future loses nothing.
    ///
    /// # Errors
    /// What ended the connection; last words have been sent as far as that was possible.
    pub async fn turn(&mut self, machine: &mut impl Machine) -> Result<(), PumpError> {
        let outcome = poll_fn(|cx| self.poll_turn(machine, cx)).await;
        if matches!(outcome, Err(PumpError::Ssh(_))) {
            self.finish(machine).await;
        }
        outcome
    }

    fn poll_turn(&mut self, machine: &mut impl Machine, cx: &mut Context<'_>) -> Poll<Result<(), PumpError>> {
        let mut progress = false;
        let mut failed = None;
        while !machine.pending().is_empty() {
            match Pin::new(&mut self.stream).poll_write(cx, machine.pending()) {
                Poll::Ready(Ok(0)) => return Poll::Ready(Err(machine.handle_end().into())),
                Poll::Ready(Ok(sent)) => {
                    machine.sent(sent);
                    progress = true;
                }
                Poll::Ready(Err(error)) => {
                    failed = Some(error);
                    break;
                }
                Poll::Pending => break,
            }
        }
        if machine.wants_input() {
            let buffer = machine.receive_buffer();
            if buffer.capacity() - buffer.len() < READ_LOW_WATER {
                buffer.reserve(READ_SIZE);
            }
            match pin!(self.stream.read_buf(buffer)).poll(cx) {
                Poll::Ready(Ok(0)) => return Poll::Ready(Err(machine.handle_end().into())),
                Poll::Ready(Ok(_)) => {
                    machine.handle_input(Instant::now())?;
                    return Poll::Ready(Ok(()));
                }
                Poll::Ready(Err(error)) => {
                    // Reset by the peer: what that means depends on how far we were.
                    return Poll::Ready(Err(match error.kind() {
                        std::io::ErrorKind::ConnectionReset => machine.handle_end().into(),
                        _ => error.into(),
                    }));
                }
                Poll::Pending => {}
            }
        }
        // A peer that closed while we were sending may have said why: that was read first.
        if let Some(error) = failed {
            return Poll::Ready(Err(error.into()));
        }
        if progress {
            return Poll::Ready(Ok(()));
        }
        self.poll_timer(machine, cx)
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

    /// Sends what is pending and closes, within a second.
    pub async fn finish(&mut self, machine: &mut impl Machine) {
        let pending = machine.pending();
        let last_words = async {
            self.stream.write_all(pending).await?;
            self.stream.shutdown().await
        };
        // The connection is over either way.
        let _ = timeout(GOODBYE_TIME, last_words).await;
    }
}
