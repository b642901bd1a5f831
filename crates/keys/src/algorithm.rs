//! The algorithms of keys and of signatures, by the names they have on the wire.

use crate::KeyError;

/// Smallest RSA modulus we make, read for use, or accept from a peer, in bits (NIST SP 800-131A retired less).
pub const MIN_RSA_BITS: usize = 2048;
/// Largest RSA modulus we work with, in bits: common servers take no larger one, and signing takes seconds.
pub const MAX_RSA_BITS: usize = 16384;
/// Largest RSA modulus that the first cryptographic library handles, in bits; above, a slower one does.
pub(crate) const MAX_FAST_RSA_BITS: usize = 8192;

/// A NIST curve of RFC 5656.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Curve {
    /// nistp256
    P256,
    /// nistp384
    P384,
    /// nistp521
    P521,
}

impl Curve {
    /// All curves, smallest first.
    pub const ALL: [Self; 3] = [Self::P256, Self::P384, Self::P521];

    /// The identifier of RFC 5656 §6.1.
    pub fn identifier(self) -> &'static str {
        match self {
            Self::P256 => "nistp256",
            Self::P384 => "nistp384",
            Self::P521 => "nistp521",
        }
    }

    /// Length of a field element, in bytes.
    pub fn field_len(self) -> usize {
        match self {
            Self::P256 => 32,
            Self::P384 => 48,
            Self::P521 => 66,
        }
    }

    /// The curve with this identifier.
    pub fn from_identifier(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|curve| curve.identifier() == name)
    }
}

/// An RSA modulus size that we make.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum RsaBits {
    /// 2048 bits: the floor.
    B2048,
    /// 3072 bits: our default.
    B3072,
    /// 4096 bits.
    B4096,
    /// 8192 bits.
    B8192,
}

/// The kind of a key, with what must be chosen when one is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum KeyAlgorithm {
    /// Ed25519 (RFC 8709).
    Ed25519,
    /// ECDSA on a NIST curve (RFC 5656).
    Ecdsa(Curve),
    /// RSA (RFC 8332).
    Rsa(RsaBits),
}

impl KeyAlgorithm {
    /// The names under which `key new` makes keys, our recommendation first.
    pub const NAMES: [(&'static str, Self); 8] = [
        ("ed25519", Self::Ed25519),
        ("ecdsa-p256", Self::Ecdsa(Curve::P256)),
        ("ecdsa-p384", Self::Ecdsa(Curve::P384)),
        ("ecdsa-p521", Self::Ecdsa(Curve::P521)),
        ("rsa-3072", Self::Rsa(RsaBits::B3072)),
        ("rsa-2048", Self::Rsa(RsaBits::B2048)),
        ("rsa-4096", Self::Rsa(RsaBits::B4096)),
        ("rsa-8192", Self::Rsa(RsaBits::B8192)),
    ];

    /// The algorithm with one of [`Self::NAMES`].
    pub fn from_name(name: &str) -> Option<Self> {
        Self::NAMES.into_iter().find(|(known, _)| *known == name).map(|(_, algorithm)| algorithm)
    }
}

/// A signature algorithm by its wire name. SHA-1 signatures (`ssh-rsa`, `ssh-dss`) are not among them
/// (RFC 9142 §4, RFC 8332 §1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum SignatureAlgorithm {
    /// `ssh-ed25519`
    Ed25519,
    /// `ecdsa-sha2-nistp256`, `-nistp384`, `-nistp521`
    Ecdsa(Curve),
    /// `rsa-sha2-256`
    RsaSha256,
    /// `rsa-sha2-512`
    RsaSha512,
}

impl SignatureAlgorithm {
    /// All of them, in our order of preference for host keys.
    pub const ALL: [Self; 6] = [
        Self::Ed25519,
        Self::Ecdsa(Curve::P256),
        Self::Ecdsa(Curve::P384),
        Self::Ecdsa(Curve::P521),
        Self::RsaSha512,
        Self::RsaSha256,
    ];

    /// The name on the wire.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ed25519 => "ssh-ed25519",
            Self::Ecdsa(Curve::P256) => "ecdsa-sha2-nistp256",
            Self::Ecdsa(Curve::P384) => "ecdsa-sha2-nistp384",
            Self::Ecdsa(Curve::P521) => "ecdsa-sha2-nistp521",
            Self::RsaSha256 => "rsa-sha2-256",
            Self::RsaSha512 => "rsa-sha2-512",
        }
    }

    /// The name of the key blobs that this algorithm works with: the same, except for RSA (RFC 8332 §3).
    pub fn key_type(self) -> &'static str {
        match self {
            Self::RsaSha256 | Self::RsaSha512 => "ssh-rsa",
            other => other.name(),
        }
    }

    /// The algorithm with this wire name.
    ///
    /// # Errors
    /// [`KeyError::Unsupported`], with the reason for the retired ones.
    pub fn from_name(name: &str) -> Result<Self, KeyError> {
        Self::ALL.into_iter().find(|algorithm| algorithm.name() == name).ok_or_else(|| {
            let why = match name {
                "ssh-rsa" => "RSA with SHA-1, retired by RFC 8332",
                "ssh-dss" => "DSA with SHA-1, retired by RFC 9142",
                _ => "not one of ours",
            };
            KeyError::unsupported("signature algorithm", name, why)
        })
    }
}
