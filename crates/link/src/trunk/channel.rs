//! A channel as a stream of bytes, with requests beside it and an end that says how.

use std::future::{Future, poll_fn};
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Instant;

use bytes::{Buf, Bytes};
use lantern_ssh::{ChannelEnded, ChannelId, OpenFailure, SessionRequest, SshError, Stream};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::timeout;

use super::Handle;
use super::state::{ChannelState, release};
use crate::LinkError;

/// Most that [`AsyncWrite`] copies at once, in bytes.
const COPY: usize = 64 * 1024;

/// How a channel ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChannelEnd {
    /// The program ended with this status.
    Exited(u32),
    /// A signal ended the program.
    Signaled {
        /// The name without SIG, as the peer sent it.
        name: String,
        /// Whether memory was dumped.
        core_dumped: bool,
        /// The peer's words, made harmless.
        message: String,
    },
    /// It was closed without a word about a program.
    Closed,
    /// The connection was lost.
    Lost(SshError),
}

struct Inner {
    handle: Arc<Handle>,
    id: ChannelId,
    /// What [`AsyncRead`] has taken and not handed out.
    reading: std::sync::Mutex<Bytes>,
}

impl Drop for Inner {
    fn drop(&mut self) {
        release(&self.handle.shared, self.id);
    }
}

/// One channel. Clones are the same channel; when the last one is dropped, it is closed and what waits either way is dropped
/// with it.
#[derive(Clone)]
pub struct Channel {
    inner: Arc<Inner>,
}

impl Channel {
    pub(super) fn new(handle: Arc<Handle>, id: ChannelId) -> Self {
        Self { inner: Arc::new(Inner { handle, id, reading: std::sync::Mutex::default() }) }
    }

    /// Runs with this channel's state; `None` when the connection keeps none for it.
    fn with<T>(&self, act: impl FnOnce(&mut ChannelState) -> T) -> Option<T> {
        self.inner.handle.shared.lock().channels.get_mut(&self.inner.id).map(act)
    }

    /// Waits until it is open.
    pub(super) async fn opened(&self) -> Result<Result<(), OpenFailure>, LinkError> {
        poll_fn(|cx| {
            let shared = &self.inner.handle.shared;
            let mut state = shared.lock();
            let lost = state.ended_by();
            let Some(channel) = state.channels.get_mut(&self.inner.id) else { return Poll::Pending };
            match (&channel.opened, lost) {
                (Some(opened), _) => Poll::Ready(Ok(opened.clone())),
                (None, Some(error)) => Poll::Ready(Err(shared.lost(error))),
                (None, None) => {
                    channel.watch(cx);
                    Poll::Pending
                }
            }
        })
        .await
    }

    /// The next piece of what comes on a stream; none at its end. What was taken is to be credited with [`Self::consumed`].
    pub fn poll_next(&self, stream: Stream, cx: &mut Context<'_>) -> Poll<Option<Bytes>> {
        self.inner.handle.shared.lock().poll_piece(self.inner.id, stream, cx)
    }

    /// As [`Self::poll_next`].
    pub async fn next(&self, stream: Stream) -> Option<Bytes> {
        poll_fn(|cx| self.poll_next(stream, cx)).await
    }

    /// Notes that so many bytes of what came have been used: this lets the machine send more.
    pub fn consumed(&self, bytes: usize) {
        let mut state = self.inner.handle.shared.lock();
        let before = state.client.unsent();
        state.client.channel_consumed(self.inner.id, bytes, Instant::now());
        if state.client.unsent() != before {
            self.inner.handle.shared.wake_driver();
        }
    }

    /// Hands data over, as much as there is room for, which is taken off its front.
    ///
    /// # Errors
    /// [`ChannelEnded`]: it takes no more.
    pub fn poll_send(&self, data: &mut Bytes, cx: &mut Context<'_>) -> Poll<Result<usize, ChannelEnded>> {
        if data.is_empty() {
            return Poll::Ready(Ok(0));
        }
        let mut state = self.inner.handle.shared.lock();
        match state.client.channel_send(self.inner.id, data) {
            Ok(0) => {
                if let Some(channel) = state.channels.get_mut(&self.inner.id) {
                    channel.wait_to_write(cx);
                }
                Poll::Pending
            }
            taken => {
                self.inner.handle.shared.wake_driver();
                Poll::Ready(taken)
            }
        }
    }

    /// Hands all of the data over. Dropped before that, it leaves in `data` what was not.
    ///
    /// # Errors
    /// [`ChannelEnded`]: it takes no more.
    pub async fn send(&self, data: &mut Bytes) -> Result<(), ChannelEnded> {
        while !data.is_empty() {
            poll_fn(|cx| self.poll_send(data, cx)).await?;
        }
        Ok(())
    }

    /// Whether the peer has said that it sends no more. A channel that ends without that was broken off.
    pub fn is_finished_by_peer(&self) -> bool {
        self.with(|channel| channel.eof).unwrap_or(false)
    }

    /// Says that no more data follows.
    pub fn send_eof(&self) {
        let mut state = self.inner.handle.shared.lock();
        state.client.channel_eof(self.inner.id);
        self.inner.handle.shared.wake_driver();
    }

    /// Closes it behind what was handed over; what comes until the peer has closed it too can still be taken.
    pub fn close(&self) {
        let mut state = self.inner.handle.shared.lock();
        state.client.channel_close(self.inner.id);
        self.inner.handle.shared.wake_driver();
    }

    /// Makes a request that wants no answer; harmless on a channel that has ended.
    pub fn tell(&self, request: &SessionRequest) {
        let mut state = self.inner.handle.shared.lock();
        let _ = state.client.channel_request(self.inner.id, request, false);
        self.inner.handle.shared.wake_driver();
    }

    /// Makes a request now; the answer can be waited for, or not.
    pub fn ask(&self, request: &SessionRequest) -> Reply {
        let mut state = self.inner.handle.shared.lock();
        let made = state.client.channel_request(self.inner.id, request, true).is_ok();
        let channel = state.channels.get_mut(&self.inner.id).filter(|_| made);
        let number = channel.map(ChannelState::expect_answer);
        self.inner.handle.shared.wake_driver();
        drop(state);
        Reply { channel: self.clone(), number }
    }

    /// A request that has left already, before this was open; the answer can be waited for, or not.
    pub(super) fn asked_before(&self) -> Reply {
        let number = self.with(ChannelState::expect_answer);
        Reply { channel: self.clone(), number }
    }

    /// Makes a request and waits for its answer: whether it is granted. A channel that ends without one has not granted it.
    ///
    /// # Errors
    /// [`LinkError::Unanswered`] or [`LinkError::Lost`].
    pub async fn request(&self, request: &SessionRequest) -> Result<bool, LinkError> {
        let shared = self.inner.handle.shared.clone();
        match timeout(shared.to.answer_time, self.ask(request)).await {
            Ok(answer) => answer,
            Err(_) => Err(shared.unanswered("a request on a session")),
        }
    }

    /// Whether the peer has closed it, or the connection is lost.
    pub fn is_over(&self) -> bool {
        let state = self.inner.handle.shared.lock();
        state.ended_by().is_some() || state.channels.get(&self.inner.id).is_none_or(|channel| channel.closed)
    }

    /// Waits until the peer has closed it, or the connection is lost.
    pub async fn ended(&self) -> ChannelEnd {
        poll_fn(|cx| self.poll_ended(cx)).await
    }

    /// As [`Self::ended`].
    pub fn poll_ended(&self, cx: &mut Context<'_>) -> Poll<ChannelEnd> {
        let mut state = self.inner.handle.shared.lock();
        let lost = state.ended_by();
        let Some(channel) = state.channels.get_mut(&self.inner.id) else {
            return Poll::Ready(ChannelEnd::Closed);
        };
        if !channel.closed {
            return match lost {
                Some(error) => Poll::Ready(ChannelEnd::Lost(error)),
                None => {
                    channel.watch(cx);
                    Poll::Pending
                }
            };
        }
        Poll::Ready(match channel.exit.clone() {
            Some(SessionRequest::ExitStatus(status)) => ChannelEnd::Exited(status),
            Some(SessionRequest::ExitSignal { name, core_dumped, message }) => {
                ChannelEnd::Signaled { name, core_dumped, message }
            }
            _ => ChannelEnd::Closed,
        })
    }
}

impl std::fmt::Debug for Channel {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Channel").field(&self.inner.id).finish()
    }
}

/// The answer to a request, to be awaited or dropped.
#[derive(Debug)]
pub struct Reply {
    channel: Channel,
    /// None: the channel had ended.
    number: Option<u64>,
}

impl Future for Reply {
    type Output = Result<bool, LinkError>;

    fn poll(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Self::Output> {
        let shared = &self.channel.inner.handle.shared;
        let mut state = shared.lock();
        let lost = state.ended_by();
        let Some(channel) = state.channels.get_mut(&self.channel.inner.id) else {
            return Poll::Ready(Ok(false));
        };
        let Some(number) = self.number else {
            // It could not even be made: the channel had ended, or the connection with it.
            return Poll::Ready(match lost {
                Some(error) if !channel.closed => Err(shared.lost(error)),
                _ => Ok(false),
            });
        };
        match (channel.answers.get(&number), lost) {
            (Some(Some(granted)), _) => Poll::Ready(Ok(*granted)),
            _ if channel.closed => Poll::Ready(Ok(false)),
            (_, Some(error)) => Poll::Ready(Err(shared.lost(error))),
            _ => {
                channel.watch(cx);
                Poll::Pending
            }
        }
    }
}

impl Drop for Reply {
    fn drop(&mut self) {
        if let Some(number) = self.number {
            self.channel.with(|channel| channel.answers.remove(&number));
        }
    }
}

/// As a line: the main stream both ways. Standard error is dropped, and credited.
impl AsyncRead for Channel {
    fn poll_read(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let mut reading = self.inner.reading.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        while let Poll::Ready(Some(piece)) = self.poll_next(Stream::Stderr, cx) {
            self.consumed(piece.len());
        }
        if reading.is_empty() {
            match ready!(self.poll_next(Stream::Main, cx)) {
                Some(piece) => *reading = piece,
                // The end of the stream: of the data, of the channel, or of what it is a part of.
                None => return Poll::Ready(Ok(())),
            }
        }
        let len = reading.len().min(buffer.remaining());
        buffer.put_slice(reading.get(..len).unwrap_or_default());
        reading.advance(len);
        drop(reading);
        self.consumed(len);
        Poll::Ready(Ok(()))
    }
}

impl AsyncWrite for Channel {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, data: &[u8]) -> Poll<io::Result<usize>> {
        let mut piece = Bytes::copy_from_slice(data.get(..data.len().min(COPY)).unwrap_or_default());
        self.poll_send(&mut piece, cx).map_err(|ended| io::Error::new(io::ErrorKind::BrokenPipe, ended))
    }

    fn poll_flush(self: Pin<&mut Self>, _cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.send_eof();
        Poll::Ready(Ok(()))
    }
}
