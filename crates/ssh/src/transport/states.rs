//! The states of a key exchange, each named for what it awaits and consumed to move on.
//!
//! ```text
//! Quiet ──► ExpectKexInit ──► client: [ExpectGroup ──►] ExpectReply [──► ExpectTrust] ──► ExpectNewKeys ──► Quiet
//!                         └─► server: [ExpectGroupRequest ──►] ExpectShare ─────────────► ExpectNewKeys ──► Quiet
//! ```

use lantern_keys::PublicKey;

use crate::cipher::PacketCipher;
use crate::kex::schedule::KeySchedule;
use crate::kex::{ClientShare, DhGroup};
use crate::message::transport::KexInit;
use crate::negotiate::Algorithms;

pub(super) enum Kex {
    /// No exchange is going on.
    Quiet,
    /// Our KEXINIT is out, the peer's is not here yet: it may still be sending data.
    ExpectKexInit(Box<ExpectKexInit>),
    /// Client: the request for a group is out.
    ExpectGroup(Box<Exchange>),
    /// Client: our share is out.
    ExpectReply(Box<ExpectReply>),
    /// Client: the server's signature is good, but nobody has said that the key is the right one.
    ExpectTrust(Box<ExpectTrust>),
    /// Server: the client has to say how large a group it wants.
    ExpectGroupRequest(Box<Exchange>),
    /// Server: the client's share has to come.
    ExpectShare(Box<ExpectShare>),
    /// Our NEWKEYS is out, the peer's has to come.
    ExpectNewKeys(Box<ExpectNewKeys>),
    /// A transition is under way; seen from outside only after an error.
    Moving,
}

impl Kex {
    /// Between our KEXINIT and our NEWKEYS we send nothing else (RFC 4253 §7.1).
    pub(super) fn we_may_send(&self) -> bool {
        matches!(self, Self::Quiet | Self::ExpectNewKeys(_))
    }

    /// Whether the key exchange message at hand is the peer's wrong guess, which is ignored once.
    pub(super) fn take_ignored(&mut self) -> bool {
        match self {
            Self::ExpectGroup(exchange) | Self::ExpectGroupRequest(exchange) => {
                std::mem::take(&mut exchange.ignore_next)
            }
            Self::ExpectReply(state) => std::mem::take(&mut state.exchange.ignore_next),
            Self::ExpectShare(state) => std::mem::take(&mut state.exchange.ignore_next),
            _ => false,
        }
    }

    /// Between its KEXINIT and its NEWKEYS the peer sends nothing else.
    pub(super) fn peer_may_send(&self) -> bool {
        matches!(self, Self::Quiet | Self::ExpectKexInit(_))
    }
}

pub(super) struct ExpectKexInit {
    pub(super) ours: KexInit,
    pub(super) ours_payload: Vec<u8>,
    /// The same offer in the order that we prefer, before a guess moved something to the front.
    pub(super) preferred: KexInit,
    pub(super) guess: Option<ClientShare>,
}

/// What both KEXINITs settled.
pub(super) struct Exchange {
    pub(super) algorithms: Algorithms,
    pub(super) client_kexinit: Vec<u8>,
    pub(super) server_kexinit: Vec<u8>,
    /// Limits, prime and generator of a group exchange, encoded for the exchange hash.
    pub(super) group_exchange: Vec<u8>,
    /// The peer guessed wrong: its next key exchange message is to be ignored (RFC 4253 §7).
    pub(super) ignore_next: bool,
}

pub(super) struct ExpectReply {
    pub(super) exchange: Exchange,
    pub(super) share: ClientShare,
}

pub(super) struct ExpectTrust {
    pub(super) algorithms: Algorithms,
    pub(super) schedule: KeySchedule,
    pub(super) verified: HostKeyVerified,
}

pub(super) struct ExpectShare {
    pub(super) exchange: Exchange,
    pub(super) group: Option<DhGroup>,
}

pub(super) struct ExpectNewKeys {
    pub(super) opening: PacketCipher,
    pub(super) algorithms: Algorithms,
}

/// Proof that the server holds the private half of this key: its signature over the exchange hash verified.
/// Only [`super::exchange`] makes one.
pub(super) struct HostKeyVerified {
    pub(super) key: PublicKey,
}

/// Proof that the host key is one that we were told to expect, or that a person accepted.
pub(super) struct HostKeyTrusted {
    pub(super) key: PublicKey,
}
