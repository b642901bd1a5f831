//! A connection on this computer, over TCP or a unix socket.

use std::io::{self, ErrorKind, IoSlice};
use std::time::Duration;

use bytes::{Buf, Bytes, BytesMut};
use lantern_book::TunnelEnd;
use socket2::SockRef;
use tokio::io::{Interest, Ready};
use tokio::net::{TcpStream, UnixStream};
use tokio::time::timeout;

/// A connection, either a caller's or one to what a tunnel leads to.
#[derive(Debug)]
pub enum LocalStream {
    /// Over TCP.
    Tcp(TcpStream),
    /// Over a unix socket.
    Unix(UnixStream),
}

impl From<TcpStream> for LocalStream {
    fn from(stream: TcpStream) -> Self {
        // What programs send in small pieces is not to wait for more of it.
        let _ = stream.set_nodelay(true);
        Self::Tcp(stream)
    }
}

impl From<UnixStream> for LocalStream {
    fn from(stream: UnixStream) -> Self {
        Self::Unix(stream)
    }
}

impl LocalStream {
    /// Connects to a place, within this time.
    ///
    /// # Errors
    /// What the system says.
    pub async fn connect(to: &TunnelEnd, within: Duration) -> io::Result<Self> {
        let connected = async {
            match to {
                TunnelEnd::Tcp { host, port } => {
                    TcpStream::connect((host.as_str(), *port)).await.map(Self::from)
                }
                TunnelEnd::Unix(path) => UnixStream::connect(path).await.map(Self::from),
            }
        };
        timeout(within, connected).await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
    }

    /// Who is at the other end, as far as there is anything to say.
    pub fn peer(&self) -> Option<std::net::SocketAddr> {
        match self {
            Self::Tcp(stream) => stream.peer_addr().ok(),
            Self::Unix(_) => None,
        }
    }

    /// Waits until it is ready for any of this.
    ///
    /// # Errors
    /// What the system says.
    pub async fn ready(&self, interest: Interest) -> io::Result<Ready> {
        match self {
            Self::Tcp(stream) => stream.ready(interest).await,
            Self::Unix(stream) => stream.ready(interest).await,
        }
    }

    /// Reads what is there, at the end of the buffer.
    ///
    /// # Errors
    /// What the system says; [`io::ErrorKind::WouldBlock`] when there is nothing yet.
    pub fn try_read(&self, buffer: &mut BytesMut) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.try_read_buf(buffer),
            Self::Unix(stream) => stream.try_read_buf(buffer),
        }
    }

    /// Writes as much as there is room for.
    ///
    /// # Errors
    /// As [`Self::try_read`].
    pub fn try_write(&self, data: &[IoSlice<'_>]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.try_write_vectored(data),
            Self::Unix(stream) => stream.try_write_vectored(data),
        }
    }

    /// Writes all of it. What was taken is gone from `data`: dropping the future loses nothing.
    ///
    /// # Errors
    /// What the system says.
    pub async fn write_all(&self, data: &mut Bytes) -> io::Result<()> {
        while !data.is_empty() {
            match self.try_write(&[IoSlice::new(data)]) {
                Ok(len) => data.advance(len),
                Err(error) if error.kind() == ErrorKind::WouldBlock => {
                    self.ready(Interest::WRITABLE).await?;
                }
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Says that nothing more follows.
    pub fn finish(&self) {
        // Whoever has gone does not need to be told.
        let _ = self.socket().shutdown(std::net::Shutdown::Write);
    }

    /// Breaks it off: the other end of a TCP connection sees a reset (RFC 9293 §3.5.3), and not an end.
    pub fn reset(self) {
        if let Self::Tcp(stream) = &self {
            let _ = SockRef::from(stream).set_linger(Some(Duration::ZERO));
        }
    }

    fn socket(&self) -> SockRef<'_> {
        match self {
            Self::Tcp(stream) => SockRef::from(stream),
            Self::Unix(stream) => SockRef::from(stream),
        }
    }
}
