//! Hybrids of a quantum-safe KEM with X25519 (IETF sshm drafts): secret as long as either part holds.
//!
//! The client sends encapsulation key ‖ X25519 share, the server ciphertext ‖ X25519 share; K is the hash of both
//! secrets, as a string.

use aws_lc_rs::digest;
use aws_lc_rs::kem::{self, DecapsulationKey, EncapsulationKey, ML_KEM_768};
use lantern_keys::RandomSource;

use super::{SharedSecret, ecdh, hash_of};
use crate::SshError;
use crate::algorithm::KexAlgorithm;

const X25519_LEN: usize = 32;
const BAD_SHARE: SshError =
    SshError::PeerBroke { rule: "its hybrid share must have the length of its method and be valid" };

enum Kem {
    MlKem(DecapsulationKey<kem::AlgorithmId>),
    Sntrup(Box<lantern_ntru_prime::DecapsulationKey>),
}

pub(super) struct Ephemeral {
    algorithm: KexAlgorithm,
    kem: Kem,
    x25519: ecdh::Ephemeral,
}

impl Ephemeral {
    pub(super) fn new(
        algorithm: KexAlgorithm,
        random: &mut dyn RandomSource,
    ) -> Result<(Self, Vec<u8>), SshError> {
        let refused = |_| SshError::Crypto("make a key exchange share");
        let (kem, mut share) = match algorithm {
            KexAlgorithm::MlKem768X25519 => {
                let secret = DecapsulationKey::generate(&ML_KEM_768).map_err(refused)?;
                let public = secret.encapsulation_key().map_err(refused)?;
                let public = public.key_bytes().map_err(refused)?.as_ref().to_vec();
                (Kem::MlKem(secret), public)
            }
            _ => {
                let secret = lantern_ntru_prime::DecapsulationKey::generate(&mut |out| random.fill(out));
                let public = secret.encapsulation_key().as_bytes().to_vec();
                (Kem::Sntrup(Box::new(secret)), public)
            }
        };
        let (x25519, x25519_share) = ecdh::Ephemeral::new(KexAlgorithm::Curve25519)?;
        share.extend_from_slice(&x25519_share);
        Ok((Self { algorithm, kem, x25519 }, share))
    }

    /// With fixed keys, for a vector.
    #[cfg(test)]
    pub(super) fn from_private_mlkem(decapsulation_key: &[u8], x25519: &[u8]) -> Self {
        Self {
            algorithm: KexAlgorithm::MlKem768X25519,
            kem: Kem::MlKem(DecapsulationKey::new(&ML_KEM_768, decapsulation_key).unwrap()),
            x25519: ecdh::Ephemeral::from_private_x25519(x25519),
        }
    }

    pub(super) fn agree(self, server_share: &[u8]) -> Result<SharedSecret, SshError> {
        let (ciphertext, x25519_share) = split(server_share)?;
        match self.kem {
            Kem::MlKem(secret) => {
                let shared = secret.decapsulate(ciphertext.into()).map_err(|_| BAD_SHARE)?;
                combine(self.algorithm, shared.as_ref(), &self.x25519, x25519_share)
            }
            Kem::Sntrup(secret) => {
                let shared = secret.decapsulate(ciphertext).ok_or(BAD_SHARE)?;
                combine(self.algorithm, shared.as_slice(), &self.x25519, x25519_share)
            }
        }
    }
}

pub(super) fn server_agree(
    algorithm: KexAlgorithm,
    client_share: &[u8],
    random: &mut dyn RandomSource,
) -> Result<(Vec<u8>, SharedSecret), SshError> {
    let (kem_public, x25519_share) = split(client_share)?;
    let (x25519, own_x25519_share) = ecdh::Ephemeral::new(KexAlgorithm::Curve25519)?;
    let (mut share, secret) = match algorithm {
        KexAlgorithm::MlKem768X25519 => {
            let public = EncapsulationKey::new(&ML_KEM_768, kem_public).map_err(|_| BAD_SHARE)?;
            let (ciphertext, shared) = public.encapsulate().map_err(|_| BAD_SHARE)?;
            (ciphertext.as_ref().to_vec(), combine(algorithm, shared.as_ref(), &x25519, x25519_share)?)
        }
        _ => {
            let public = lantern_ntru_prime::EncapsulationKey::from_bytes(kem_public).ok_or(BAD_SHARE)?;
            let (ciphertext, shared) = public.encapsulate(&mut |out| random.fill(out));
            (ciphertext.to_vec(), combine(algorithm, shared.as_slice(), &x25519, x25519_share)?)
        }
    };
    share.extend_from_slice(&own_x25519_share);
    Ok((share, secret))
}

fn split(share: &[u8]) -> Result<(&[u8], &[u8]), SshError> {
    share.len().checked_sub(X25519_LEN).and_then(|at| share.split_at_checked(at)).ok_or(BAD_SHARE)
}

/// K = HASH(KEM secret ‖ X25519 secret)
fn combine(
    algorithm: KexAlgorithm,
    kem_secret: &[u8],
    x25519: &ecdh::Ephemeral,
    peer_share: &[u8],
) -> Result<SharedSecret, SshError> {
    x25519.agree_raw(peer_share, |raw| {
        let mut context = digest::Context::new(hash_of(algorithm));
        context.update(kem_secret);
        context.update(raw);
        SharedSecret::string(context.finish().as_ref())
    })
}
