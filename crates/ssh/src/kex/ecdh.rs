//! Elliptic-curve Diffie-Hellman: X25519 (RFC 8731) and the NIST curves (RFC 5656).

use aws_lc_rs::agreement::{self, PrivateKey, UnparsedPublicKey};
use lantern_keys::Curve;

use super::SharedSecret;
use crate::SshError;
use crate::algorithm::KexAlgorithm;

pub(super) struct Ephemeral {
    private: PrivateKey,
}

fn curve(algorithm: KexAlgorithm) -> &'static agreement::Algorithm {
    match algorithm {
        KexAlgorithm::Ecdh(Curve::P256) => &agreement::ECDH_P256,
        KexAlgorithm::Ecdh(Curve::P384) => &agreement::ECDH_P384,
        KexAlgorithm::Ecdh(Curve::P521) => &agreement::ECDH_P521,
        _ => &agreement::X25519,
    }
}

impl Ephemeral {
    pub(super) fn new(algorithm: KexAlgorithm) -> Result<(Self, Vec<u8>), SshError> {
        let refused = |_| SshError::Crypto("make a key exchange share");
        let private = PrivateKey::generate(curve(algorithm)).map_err(refused)?;
        let public = private.compute_public_key().map_err(refused)?.as_ref().to_vec();
        Ok((Self { private }, public))
    }

    #[cfg(test)]
    pub(super) fn from_private_x25519(bytes: &[u8]) -> Self {
        Self { private: PrivateKey::from_private_key(&agreement::X25519, bytes).unwrap() }
    }

    /// The raw shared secret. The library checks that the peer's point is on the curve, and that an X25519 result
    /// is not all zero (RFC 8731 §3).
    pub(super) fn agree_raw<T>(&self, peer: &[u8], then: impl FnOnce(&[u8]) -> T) -> Result<T, SshError> {
        let bad = SshError::PeerBroke { rule: "its key exchange share must be a valid point (RFC 5656 §4)" };
        let peer = UnparsedPublicKey::new(self.private.algorithm(), peer);
        agreement::agree(&self.private, peer, bad, |raw| Ok(then(raw)))
    }

    pub(super) fn agree(self, peer: &[u8]) -> Result<SharedSecret, SshError> {
        self.agree_raw(peer, SharedSecret::mpint)
    }
}
