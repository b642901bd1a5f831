//! What a protocol machine speaks over: a socket, or a channel of another connection.

use tokio::io::{AsyncRead, AsyncWrite};

/// Bytes both ways.
pub trait ByteStream: AsyncRead + AsyncWrite + Send + Unpin {}

impl<T: AsyncRead + AsyncWrite + Send + Unpin> ByteStream for T {}

/// Who opens lines, where that is not the network: what joins both ends in memory.
pub trait Lines: std::fmt::Debug + Send + Sync {
    /// A new line to this port of this host.
    ///
    /// # Errors
    /// Nobody is there.
    fn open(&self, host: &str, port: u16) -> std::io::Result<Line>;
}

/// A connected line, whatever it is made of.
pub type Line = Box<dyn ByteStream>;
