//! What a driver needs of either role.

use std::time::Instant;

use bytes::BytesMut;

use crate::SshError;

/// The byte side of a protocol machine: the same for client and server.
pub trait Machine {
    /// Where received bytes go, at the end. The machine takes them out in [`Self::handle_input`].
    fn receive_buffer(&mut self) -> &mut BytesMut;

    /// Whether more input would be of use. `false` while a decision is awaited: the driver then stops reading, so
    /// that the buffer cannot grow.
    fn wants_input(&self) -> bool;

    /// Works through received bytes.
    ///
    /// # Errors
    /// What ended the connection. The driver should still try to send [`Self::pending`], which then ends in a
    /// message with the reason.
    fn handle_input(&mut self, now: Instant) -> Result<(), SshError>;

    /// Tells the machine that the peer closed the line.
    ///
    /// # Errors
    /// Always; which one depends on what was going on.
    fn handle_end(&mut self) -> SshError;

    /// When [`Self::handle_timeout`] is due.
    fn poll_timeout(&self) -> Option<Instant>;

    /// Acts on a deadline that has passed; harmless when none has.
    ///
    /// # Errors
    /// [`SshError::TimedOut`] when the peer is gone or too slow.
    fn handle_timeout(&mut self, now: Instant) -> Result<(), SshError>;

    /// Bytes to send.
    fn pending(&self) -> &[u8];

    /// Notes that the first `len` bytes of [`Self::pending`] were sent.
    fn sent(&mut self, len: usize);
}
