//! Why a peer ends a connection: SSH_MSG_DISCONNECT (RFC 4253 §11.1).

use std::fmt;

/// A reason code of RFC 4250 §4.2.2 and the peer's own words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Disconnect {
    /// The code.
    pub code: u32,
    /// The peer's words, with control characters made harmless.
    pub description: String,
}

/// SSH_DISCONNECT_PROTOCOL_ERROR
pub const PROTOCOL_ERROR: u32 = 2;
/// SSH_DISCONNECT_KEY_EXCHANGE_FAILED
pub const KEY_EXCHANGE_FAILED: u32 = 3;
/// SSH_DISCONNECT_MAC_ERROR
pub const MAC_ERROR: u32 = 5;
/// SSH_DISCONNECT_HOST_KEY_NOT_VERIFIABLE
pub const HOST_KEY_NOT_VERIFIABLE: u32 = 9;
/// SSH_DISCONNECT_CONNECTION_LOST
pub const CONNECTION_LOST: u32 = 10;
/// SSH_DISCONNECT_BY_APPLICATION
pub const BY_APPLICATION: u32 = 11;
/// SSH_DISCONNECT_NO_MORE_AUTH_METHODS_AVAILABLE
pub const NO_MORE_AUTH_METHODS: u32 = 14;

impl Disconnect {
    /// The standard's meaning of the code.
    pub fn meaning(&self) -> &'static str {
        match self.code {
            1 => "host not allowed to connect",
            2 => "protocol error",
            3 => "key exchange failed",
            5 => "integrity check failed",
            6 => "compression error",
            7 => "service not available",
            8 => "protocol version not supported",
            9 => "host key not verifiable",
            10 => "connection lost",
            11 => "by application",
            12 => "too many connections",
            13 => "authentication cancelled by user",
            14 => "no more authentication methods available",
            15 => "illegal user name",
            _ => "unknown reason",
        }
    }
}

impl fmt::Display for Disconnect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} (code {})", self.meaning(), self.code)?;
        if !self.description.is_empty() {
            write!(f, ", saying \"{}\"", self.description)?;
        }
        Ok(())
    }
}
