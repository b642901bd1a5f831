//! What the layers above look up.

use std::sync::Arc;
use std::time::Duration;

use lantern_keys::{PrivateKey, PublicKey, SignatureAlgorithm};

use super::states::Kex;
use super::{Guess, Statistics, Transport};
use crate::negotiate::Algorithms;
use crate::packet::{PacketReceiver, PacketSender};

impl Transport {
    pub(crate) fn receiver(&mut self) -> &mut PacketReceiver {
        &mut self.codec.receiver
    }

    pub(crate) fn sender(&mut self) -> &mut PacketSender {
        &mut self.codec.sender
    }

    pub(crate) fn pending(&self) -> &[u8] {
        self.codec.sender.pending()
    }

    /// Bytes of the peer's that we hold and have not worked on, and of ours that wait.
    pub(crate) fn held_bytes(&self) -> usize {
        self.codec.receiver.buffer.capacity() + self.codec.sender.capacity() + self.deferred.bytes()
    }

    pub(crate) fn awaits_trust(&self) -> bool {
        matches!(self.kex, Kex::ExpectTrust(_))
    }

    pub(crate) fn host_keys(&self) -> &[Arc<PrivateKey>] {
        &self.host_keys
    }

    pub(crate) fn session_id(&self) -> Option<&[u8]> {
        self.negotiated.session_id.as_deref()
    }

    pub(crate) fn algorithms(&self) -> Option<&Algorithms> {
        self.negotiated.algorithms.as_ref()
    }

    pub(crate) fn host_key(&self) -> Option<&PublicKey> {
        self.negotiated.host_key.as_ref()
    }

    pub(crate) fn peer_identification(&self) -> &str {
        &self.negotiated.peer_identification
    }

    pub(crate) fn server_host_keys(&self) -> &[SignatureAlgorithm] {
        &self.negotiated.server_host_keys
    }

    pub(crate) fn next_guess(&self) -> Option<&Guess> {
        self.negotiated.next_guess.as_ref()
    }

    pub(crate) fn is_strict(&self) -> bool {
        self.negotiated.strict
    }

    /// The signature algorithms that the server says it takes from users (RFC 8308 §3.1).
    pub(crate) fn server_sig_algs(&self) -> Option<&[String]> {
        self.negotiated.ext_info.server_sig_algs.as_deref()
    }

    pub(crate) fn is_joined(&self) -> bool {
        self.is_joined
    }

    pub(crate) fn statistics(&self, round_trip: Option<Duration>) -> Statistics {
        Statistics {
            bytes_received: self.codec.receiver.direction.bytes_total,
            bytes_sent: self.codec.sender.direction.bytes_total,
            key_exchanges: self.lifetimes.exchanges,
            round_trip,
        }
    }
}
