//! Listening on this computer.

use std::io::{self, ErrorKind};
use std::net::SocketAddr;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use lantern_book::TunnelEnd;
use rustix::fs::Mode;
use rustix::process::{geteuid, umask};
use tokio::net::{TcpListener, TcpSocket, UnixListener, lookup_host};

use super::LocalStream;

/// Callers that the system lets wait until they are taken: thousands come at once where a page has many parts.
const MAX_WAITING: u32 = 4096;

/// Why there is no listening at a place.
#[derive(Debug, thiserror::Error)]
pub enum ListenError {
    /// Something listens there already.
    #[error("{at} is in use")]
    InUse {
        /// Where.
        at: TunnelEnd,
    },
    /// A file is there that is no socket of ours.
    #[error("{path} is there already, and is no socket of ours")]
    NotOurs {
        /// The file.
        path: PathBuf,
    },
    /// The system does not let us.
    #[error("cannot listen at {at}")]
    Io {
        /// Where.
        at: TunnelEnd,
        /// What it says.
        source: io::Error,
    },
}

#[derive(Debug)]
enum Socket {
    Tcp(TcpListener),
    Unix(UnixListener),
}

/// A place on this computer where callers come in. Dropped, it is closed; a unix socket's file goes with it.
#[derive(Debug)]
pub struct Listener {
    socket: Socket,
    at: TunnelEnd,
    /// Goes when this does.
    _file: Option<SocketFile>,
}

impl Listener {
    /// Listens at a place. A socket that nobody listens on any more is replaced, if it is one of ours.
    ///
    /// # Errors
    /// [`ListenError`].
    pub async fn bind(at: &TunnelEnd) -> Result<Self, ListenError> {
        let failed = |source: io::Error| match source.kind() {
            ErrorKind::AddrInUse => ListenError::InUse { at: at.clone() },
            _ => ListenError::Io { at: at.clone(), source },
        };
        match at {
            TunnelEnd::Tcp { host, port } => {
                let listener = bind_tcp(host, *port).await.map_err(failed)?;
                let port = listener.local_addr().map_err(failed)?.port();
                let at = TunnelEnd::Tcp { host: host.clone(), port };
                Ok(Self { socket: Socket::Tcp(listener), at, _file: None })
            }
            TunnelEnd::Unix(path) => {
                let path = Path::new(path);
                let listener = match bind_unix(path) {
                    Err(error) if error.kind() == ErrorKind::AddrInUse => {
                        remove_stale(path, at)?;
                        bind_unix(path).map_err(failed)?
                    }
                    bound => bound.map_err(failed)?,
                };
                let file = Some(SocketFile::of(path));
                Ok(Self { socket: Socket::Unix(listener), at: at.clone(), _file: file })
            }
        }
    }

    /// Where it listens, with the port that was chosen.
    pub fn at(&self) -> &TunnelEnd {
        &self.at
    }

    /// The next caller.
    ///
    /// # Errors
    /// What the system says: out of descriptors, mostly.
    pub async fn accept(&self) -> io::Result<LocalStream> {
        match &self.socket {
            Socket::Tcp(listener) => Ok(listener.accept().await?.0.into()),
            Socket::Unix(listener) => Ok(listener.accept().await?.0.into()),
        }
    }
}

async fn bind_tcp(host: &str, port: u16) -> io::Result<TcpListener> {
    let mut failed = None;
    for address in lookup_host((host, port)).await? {
        match bind_address(address) {
            Ok(listener) => return Ok(listener),
            Err(error) => failed = Some(error),
        }
    }
    Err(failed.unwrap_or_else(|| ErrorKind::AddrNotAvailable.into()))
}

fn bind_address(address: SocketAddr) -> io::Result<TcpListener> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    // What the last callers left at the port is no reason to wait (tcp(7), SO_REUSEADDR).
    socket.set_reuseaddr(true)?;
    if address.is_ipv6() {
        // `::` is IPv6 alone: IPv4 is listened on when it is asked for.
        socket2::SockRef::from(&socket).set_only_v6(true)?;
    }
    socket.bind(address)?;
    socket.listen(MAX_WAITING)
}

/// Closed to everybody else from its first moment; the mode of the file alone would come too late.
///
/// # Errors
/// What the system says.
pub fn bind_unix(path: &Path) -> io::Result<UnixListener> {
    let before = umask(Mode::from_bits_truncate(0o177));
    let listener = UnixListener::bind(path);
    umask(before);
    let listener = listener?;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))?;
    Ok(listener)
}

/// Takes away a socket of ours that nobody listens on.
fn remove_stale(path: &Path, at: &TunnelEnd) -> Result<(), ListenError> {
    let io = |source| ListenError::Io { at: at.clone(), source };
    let metadata = std::fs::symlink_metadata(path).map_err(io)?;
    if !metadata.file_type().is_socket() || metadata.uid() != geteuid().as_raw() {
        return Err(ListenError::NotOurs { path: path.to_owned() });
    }
    match std::os::unix::net::UnixStream::connect(path) {
        Err(error) if error.kind() == ErrorKind::ConnectionRefused => std::fs::remove_file(path).map_err(io),
        _ => Err(ListenError::InUse { at: at.clone() }),
    }
}

/// The file of a socket, which goes when the socket does; not one that has taken its place.
#[derive(Debug)]
struct SocketFile {
    path: PathBuf,
    identity: Option<(u64, u64)>,
}

impl SocketFile {
    fn of(path: &Path) -> Self {
        Self { path: path.to_owned(), identity: identity(path) }
    }
}

fn identity(path: &Path) -> Option<(u64, u64)> {
    let metadata = std::fs::symlink_metadata(path).ok()?;
    Some((metadata.dev(), metadata.ino()))
}

impl Drop for SocketFile {
    fn drop(&mut self) {
        if self.identity.is_some() && identity(&self.path) == self.identity {
            let _ = std::fs::remove_file(&self.path);
        }
    }
}
