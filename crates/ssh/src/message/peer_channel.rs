//! What channels are opened to, in either direction: places, agents, displays, sockets.

use lantern_keys::wire::{Reader, WireError, Writer};

use super::connection::ChannelOpen;
use crate::{Role, SshError};

/// What a `direct-tcpip` channel is to be connected with, and on whose behalf (RFC 4254 §7.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectTcpip {
    /// The host to connect to, as the server knows it.
    pub host: String,
    /// The port to connect to.
    pub port: u16,
    /// Where the connection that is passed on comes from.
    pub originator: (String, u16),
}

impl DirectTcpip {
    /// The channel's type on the wire.
    pub(crate) const TYPE: &'static [u8] = b"direct-tcpip";

    pub(crate) fn encode(&self) -> Vec<u8> {
        let mut rest = Vec::new();
        for (host, port) in [(&self.host, self.port), (&self.originator.0, self.originator.1)] {
            rest.put_string(host.as_bytes());
            rest.put_uint32(port.into());
        }
        rest
    }

    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let mut place = |host, port| -> Result<(String, u16), WireError> {
            let host = reader.text(host)?.to_owned();
            // A port beyond 65535 is no port that anything listens on.
            Ok((host, u16::try_from(reader.u32(port)?).unwrap_or(0)))
        };
        let (host, port) = place("host to connect", "port to connect")?;
        let originator = place("originator address", "originator port")?;
        reader.finish()?;
        Ok(Self { host, port, originator })
    }
}

/// Where a `forwarded-tcpip` channel comes from (RFC 4254 §7.2): a port that the server listens on for us.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Forwarded {
    /// The address that the server listens on, as we asked for it.
    pub address: String,
    /// The port that it listens on.
    pub port: u16,
    /// Who has connected to it.
    pub originator: (String, u16),
}

impl Forwarded {
    /// The channel's type on the wire.
    pub(crate) const TYPE: &'static [u8] = b"forwarded-tcpip";

    pub(crate) fn encode(&self) -> Vec<u8> {
        let (host, port) = (self.address.clone(), self.port);
        DirectTcpip { host, port, originator: self.originator.clone() }.encode()
    }

    pub(crate) fn decode(reader: Reader<'_>) -> Result<Self, WireError> {
        let DirectTcpip { host: address, port, originator } = DirectTcpip::decode(reader)?;
        Ok(Self { address, port, originator })
    }
}

/// The type on the wire of sessions (RFC 4254 §6.1).
pub(crate) const SESSION_TYPE: &[u8] = b"session";
/// The type on the wire of channels to our display (RFC 4254 §6.3.2).
pub(crate) const DISPLAY_TYPE: &[u8] = b"x11";
/// The type of channels to a unix socket that the server reaches (the public notes on streamlocal).
const DIRECT_UNIX_TYPE: &[u8] = b"direct-streamlocal@openssh.com";
/// The type of channels from a unix socket that the server listens on for us.
const FORWARDED_UNIX_TYPE: &[u8] = b"forwarded-streamlocal@openssh.com";

/// What a channel is that the peer wants to open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PeerChannel {
    /// A session (RFC 4254 §6.1): asked about by a server that passes it on; others open it at once.
    Session,
    /// To a place that we reach, for the peer (RFC 4254 §7.2): what a client asks of a server.
    Direct(DirectTcpip),
    /// To an agent on our side.
    Agent,
    /// To a display on our side, for the program that came from here (RFC 4254 §6.3.2).
    Display {
        /// Address and port.
        originator: (String, u16),
    },
    /// From a port that we asked the peer to listen on (RFC 4254 §7.2).
    Forwarded(Forwarded),
    /// To a unix socket that we reach, for the peer: what a client asks of a server (the public notes on streamlocal).
    DirectUnix(String),
    /// From a unix socket that we asked the peer to listen on.
    ForwardedUnix(String),
}

impl PeerChannel {
    /// What the peer of this role of ours wants opened; none when it is of no type that it may ask for.
    pub(crate) fn decode(role: Role, open: &ChannelOpen<'_>) -> Result<Option<Self>, SshError> {
        let reader = Reader::new(open.rest);
        Ok(match (role, open.channel_type) {
            (Role::Server, SESSION_TYPE) => Some(Self::Session),
            (Role::Server, DirectTcpip::TYPE) => Some(Self::Direct(
                DirectTcpip::decode(reader).map_err(SshError::malformed("CHANNEL_OPEN (direct-tcpip)"))?,
            )),
            (Role::Server, DIRECT_UNIX_TYPE) => Some(Self::DirectUnix(
                decode_path(reader).map_err(SshError::malformed("CHANNEL_OPEN (direct-streamlocal)"))?,
            )),
            (Role::Client, FORWARDED_UNIX_TYPE) => Some(Self::ForwardedUnix(
                decode_path(reader).map_err(SshError::malformed("CHANNEL_OPEN (forwarded-streamlocal)"))?,
            )),
            (Role::Client, kind) if kind == crate::agent::CHANNEL_TYPE.as_bytes() => Some(Self::Agent),
            (Role::Client, DISPLAY_TYPE) => {
                let malformed = SshError::malformed("CHANNEL_OPEN (x11)");
                Some(Self::Display { originator: decode_place(reader).map_err(malformed)? })
            }
            (Role::Client, Forwarded::TYPE) => Some(Self::Forwarded(
                Forwarded::decode(reader).map_err(SshError::malformed("CHANNEL_OPEN (forwarded-tcpip)"))?,
            )),
            _ => None,
        })
    }

    /// Its type on the wire, and what the type adds to the message.
    pub(crate) fn encode(&self) -> (&'static [u8], Vec<u8>) {
        match self {
            Self::Session => (SESSION_TYPE, Vec::new()),
            Self::Direct(to) => (DirectTcpip::TYPE, to.encode()),
            Self::Agent => (crate::agent::CHANNEL_TYPE.as_bytes(), Vec::new()),
            Self::Display { originator } => {
                let mut rest = Vec::new();
                rest.put_string(originator.0.as_bytes());
                rest.put_uint32(originator.1.into());
                (DISPLAY_TYPE, rest)
            }
            Self::Forwarded(forwarded) => (Forwarded::TYPE, forwarded.encode()),
            Self::DirectUnix(path) => {
                let mut rest = Vec::new();
                rest.put_string(path.as_bytes());
                // Two fields that are reserved.
                rest.put_string(b"");
                rest.put_uint32(0);
                (DIRECT_UNIX_TYPE, rest)
            }
            Self::ForwardedUnix(path) => {
                let mut rest = Vec::new();
                rest.put_string(path.as_bytes());
                rest.put_string(b"");
                (FORWARDED_UNIX_TYPE, rest)
            }
        }
    }
}

/// What is reserved behind the path is read over: no two descriptions of it agree.
fn decode_path(mut reader: Reader<'_>) -> Result<String, WireError> {
    Ok(reader.text("socket path")?.to_owned())
}

fn decode_place(mut reader: Reader<'_>) -> Result<(String, u16), WireError> {
    let host = reader.text("originator address")?.to_owned();
    let port = u16::try_from(reader.u32("originator port")?).unwrap_or(0);
    reader.finish()?;
    Ok((host, port))
}

#[cfg(any(test, fuzzing))]
#[allow(unused_must_use)]
pub(crate) fn decode_anything(bytes: &[u8]) {
    DirectTcpip::decode(Reader::new(bytes));
    Forwarded::decode(Reader::new(bytes));
    decode_place(Reader::new(bytes));
    decode_path(Reader::new(bytes));
    for name in [&b"tcpip-forward"[..], b"cancel-streamlocal-forward@openssh.com"] {
        crate::ListenAt::decode(name, &mut Reader::new(bytes));
    }
}
