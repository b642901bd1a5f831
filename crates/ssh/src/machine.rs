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
    /// What ended the connection. The driver should still try to send [`Self::poll_transmit`], which then ends in
    /// a message with the reason. The same error comes back from every call after that.
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

    /// Bytes to send. Packets are made of what channels have waiting here and no earlier, so ask right before sending.
    fn poll_transmit(&mut self, now: Instant) -> &[u8];

    /// Notes that the first `len` bytes of [`Self::poll_transmit`] were sent.
    fn sent(&mut self, len: usize);

    /// What ended the connection, once something has. Then nothing more comes of it: bytes that are left to be sent are its
    /// last words.
    fn failure(&self) -> Option<&SshError>;
}
