//! Listening on the other side's behalf (RFC 4254 §7.1, and the public notes on streamlocal): where, and the forms of it.

use std::fmt;

use lantern_keys::wire::{Reader, WireError, Writer};

/// Where a server is asked to listen for its client.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum ListenAt {
    /// At an address and port of its own; port 0: one that it chooses.
    Tcp {
        /// The address, or a word for several (RFC 4254 §7.1): `localhost`, `0.0.0.0`, `::`, nothing.
        address: String,
        /// The port.
        port: u16,
    },
    /// On a unix socket of its own.
    Unix(String),
}

const TCP: (&[u8], &[u8]) = (b"tcpip-forward", b"cancel-tcpip-forward");
const UNIX: (&[u8], &[u8]) = (b"streamlocal-forward@openssh.com", b"cancel-streamlocal-forward@openssh.com");

impl ListenAt {
    fn requests(&self) -> (&'static [u8], &'static [u8]) {
        match self {
            Self::Tcp { .. } => TCP,
            Self::Unix(_) => UNIX,
        }
    }

    /// The request to begin, by its name on the wire.
    pub(crate) fn begin(&self) -> &'static [u8] {
        self.requests().0
    }

    /// The request to stop.
    pub(crate) fn stop(&self) -> &'static [u8] {
        self.requests().1
    }

    /// What follows the name in either.
    pub(crate) fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        match self {
            Self::Tcp { address, port } => {
                out.put_string(address.as_bytes());
                out.put_uint32((*port).into());
            }
            Self::Unix(path) => out.put_string(path.as_bytes()),
        }
        out
    }

    /// The place of a request with this name, and whether it is to begin; none when it is another request.
    pub(crate) fn decode(name: &[u8], reader: &mut Reader<'_>) -> Result<Option<(Self, bool)>, WireError> {
        let begins = name == TCP.0 || name == UNIX.0;
        if name == TCP.0 || name == TCP.1 {
            let address = reader.text("address to bind")?.to_owned();
            let port = reader.u32("port to bind")?;
            let rule = WireError::Invalid { field: "port to bind", rule: "must not be above 65535" };
            let port = u16::try_from(port).map_err(|_| rule)?;
            return Ok(Some((Self::Tcp { address, port }, begins)));
        }
        if name == UNIX.0 || name == UNIX.1 {
            return Ok(Some((Self::Unix(reader.text("socket path")?.to_owned()), begins)));
        }
        Ok(None)
    }

    /// The same with the port that the server chose, where it was to choose one.
    pub(crate) fn chosen(&self, chosen: u16) -> Self {
        match self {
            Self::Tcp { address, port: 0 } => Self::Tcp { address: address.clone(), port: chosen },
            other => other.clone(),
        }
    }

    /// Whether the server is to choose the port.
    pub(crate) fn is_open(&self) -> bool {
        matches!(self, Self::Tcp { port: 0, .. })
    }
}

impl fmt::Display for ListenAt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tcp { address, port } if address.contains(':') => write!(f, "[{address}]:{port}"),
            Self::Tcp { address, port } => write!(f, "{address}:{port}"),
            Self::Unix(path) => f.write_str(path),
        }
    }
}
