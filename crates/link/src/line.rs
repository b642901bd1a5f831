//! What a protocol machine speaks over: a socket, or a channel of another connection.

use tokio::io::{AsyncRead, AsyncWrite};

/// Bytes both ways.
pub trait ByteStream: AsyncRead + AsyncWrite + Send + Unpin {}

impl<T: AsyncRead + AsyncWrite + Send + Unpin> ByteStream for T {}

/// A connected line, whatever it is made of.
pub type Line = Box<dyn ByteStream>;
