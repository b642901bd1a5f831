//! The algorithms that we speak, by their wire names, and why the retired ones are refused.

use lantern_keys::{Curve, SignatureAlgorithm};

/// A key exchange method.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum KexAlgorithm {
    /// ML-KEM-768 with X25519 (IETF sshm draft on ML-KEM hybrids)
    MlKem768X25519,
    /// Streamlined NTRU Prime 761 with X25519 (IETF sshm draft on NTRU Prime)
    Sntrup761X25519,
    /// The same under the name it had before the draft
    Sntrup761X25519Openssh,
    /// X25519 (RFC 8731)
    Curve25519,
    /// The same under the name it had before the RFC
    Curve25519Libssh,
    /// ECDH on a NIST curve (RFC 5656)
    Ecdh(Curve),
    /// Diffie-Hellman in group 16 (RFC 8268)
    Group16,
    /// Diffie-Hellman in group 18 (RFC 8268)
    Group18,
    /// Diffie-Hellman in group 14 (RFC 8268)
    Group14,
    /// Diffie-Hellman in a group of the server's choice (RFC 4419)
    GroupExchange,
}

impl KexAlgorithm {
    /// All methods in our order of preference: quantum-safe first, then fast, then the rest.
    pub const ALL: [Self; 12] = [
        Self::MlKem768X25519,
        Self::Sntrup761X25519,
        Self::Sntrup761X25519Openssh,
        Self::Curve25519,
        Self::Curve25519Libssh,
        Self::Ecdh(Curve::P256),
        Self::Ecdh(Curve::P384),
        Self::Ecdh(Curve::P521),
        Self::Group16,
        Self::Group18,
        Self::Group14,
        Self::GroupExchange,
    ];

    /// The name on the wire.
    pub fn name(self) -> &'static str {
        match self {
            Self::MlKem768X25519 => "mlkem768x25519-sha256",
            Self::Sntrup761X25519 => "sntrup761x25519-sha512",
            Self::Sntrup761X25519Openssh => "sntrup761x25519-sha512@openssh.com",
            Self::Curve25519 => "curve25519-sha256",
            Self::Curve25519Libssh => "curve25519-sha256@libssh.org",
            Self::Ecdh(Curve::P256) => "ecdh-sha2-nistp256",
            Self::Ecdh(Curve::P384) => "ecdh-sha2-nistp384",
            Self::Ecdh(Curve::P521) => "ecdh-sha2-nistp521",
            Self::Group16 => "diffie-hellman-group16-sha512",
            Self::Group18 => "diffie-hellman-group18-sha512",
            Self::Group14 => "diffie-hellman-group14-sha256",
            Self::GroupExchange => "diffie-hellman-group-exchange-sha256",
        }
    }

    /// Whether recorded traffic stays secret from a quantum computer.
    pub fn is_quantum_safe(self) -> bool {
        matches!(self, Self::MlKem768X25519 | Self::Sntrup761X25519 | Self::Sntrup761X25519Openssh)
    }

    /// The method with this name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|algorithm| algorithm.name() == name)
    }
}

/// A cipher.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum CipherAlgorithm {
    /// `aes256-gcm@openssh.com` (the AEAD of RFC 5647 under names that fix the negotiation)
    Aes256Gcm,
    /// `aes128-gcm@openssh.com`
    Aes128Gcm,
    /// `chacha20-poly1305@openssh.com`
    ChaCha20Poly1305,
    /// `aes256-ctr` (RFC 4344)
    Aes256Ctr,
    /// `aes192-ctr`
    Aes192Ctr,
    /// `aes128-ctr`
    Aes128Ctr,
}

impl CipherAlgorithm {
    /// All ciphers, in the order for processors with AES instructions.
    pub const ALL: [Self; 6] = [
        Self::Aes256Gcm,
        Self::Aes128Gcm,
        Self::ChaCha20Poly1305,
        Self::Aes256Ctr,
        Self::Aes192Ctr,
        Self::Aes128Ctr,
    ];

    /// The name on the wire.
    pub fn name(self) -> &'static str {
        match self {
            Self::Aes256Gcm => "aes256-gcm@openssh.com",
            Self::Aes128Gcm => "aes128-gcm@openssh.com",
            Self::ChaCha20Poly1305 => "chacha20-poly1305@openssh.com",
            Self::Aes256Ctr => "aes256-ctr",
            Self::Aes192Ctr => "aes192-ctr",
            Self::Aes128Ctr => "aes128-ctr",
        }
    }

    /// Whether it authenticates by itself, so that no MAC is negotiated.
    pub fn is_aead(self) -> bool {
        matches!(self, Self::Aes256Gcm | Self::Aes128Gcm | Self::ChaCha20Poly1305)
    }

    /// Length of its key, in bytes.
    pub(crate) fn key_len(self) -> usize {
        match self {
            Self::Aes256Gcm | Self::Aes256Ctr => 32,
            Self::Aes128Gcm | Self::Aes128Ctr => 16,
            Self::Aes192Ctr => 24,
            Self::ChaCha20Poly1305 => 64,
        }
    }

    /// Length of its initial vector, in bytes.
    pub(crate) fn iv_len(self) -> usize {
        match self {
            Self::Aes256Gcm | Self::Aes128Gcm => 12,
            Self::ChaCha20Poly1305 => 0,
            Self::Aes256Ctr | Self::Aes192Ctr | Self::Aes128Ctr => 16,
        }
    }

    /// The cipher with this name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|algorithm| algorithm.name() == name)
    }
}

/// A message authentication code (RFC 6668).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum MacAlgorithm {
    /// `hmac-sha2-256-etm@openssh.com`: over the ciphertext
    Sha256Etm,
    /// `hmac-sha2-512-etm@openssh.com`
    Sha512Etm,
    /// `hmac-sha2-256`: over the plaintext
    Sha256,
    /// `hmac-sha2-512`
    Sha512,
}

impl MacAlgorithm {
    /// All MACs in our order of preference.
    pub const ALL: [Self; 4] = [Self::Sha256Etm, Self::Sha512Etm, Self::Sha256, Self::Sha512];

    /// The name on the wire.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha256Etm => "hmac-sha2-256-etm@openssh.com",
            Self::Sha512Etm => "hmac-sha2-512-etm@openssh.com",
            Self::Sha256 => "hmac-sha2-256",
            Self::Sha512 => "hmac-sha2-512",
        }
    }

    pub(crate) fn is_etm(self) -> bool {
        matches!(self, Self::Sha256Etm | Self::Sha512Etm)
    }

    /// Length of key and tag alike, in bytes.
    pub(crate) fn len(self) -> usize {
        match self {
            Self::Sha256Etm | Self::Sha256 => 32,
            Self::Sha512Etm | Self::Sha512 => 64,
        }
    }

    /// The MAC with this name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|algorithm| algorithm.name() == name)
    }
}

/// What we offer, each list in order of preference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Offer {
    /// Key exchange methods.
    pub kex: Vec<KexAlgorithm>,
    /// Host key algorithms.
    pub host_keys: Vec<SignatureAlgorithm>,
    /// Ciphers, both ways.
    pub ciphers: Vec<CipherAlgorithm>,
    /// MACs, both ways.
    pub macs: Vec<MacAlgorithm>,
}

impl Offer {
    /// Everything that we speak, best first. Without AES instructions ChaCha20 is faster and, in software, safer
    /// against timing.
    pub fn new(aes_in_hardware: bool) -> Self {
        let mut ciphers = CipherAlgorithm::ALL.to_vec();
        if !aes_in_hardware {
            ciphers.retain(|cipher| *cipher != CipherAlgorithm::ChaCha20Poly1305);
            ciphers.insert(0, CipherAlgorithm::ChaCha20Poly1305);
        }
        Self {
            kex: KexAlgorithm::ALL.to_vec(),
            host_keys: SignatureAlgorithm::ALL.to_vec(),
            ciphers,
            macs: MacAlgorithm::ALL.to_vec(),
        }
    }

    /// Puts the host key algorithms of keys that are known for the server first, so that it presents one of them.
    pub fn prefer_host_keys(&mut self, known: &[SignatureAlgorithm]) {
        self.host_keys.sort_by_key(|algorithm| !known.contains(algorithm));
    }
}

/// Why a name that we don't speak is not spoken any more, with the document that says so.
pub fn retired(name: &str) -> Option<&'static str> {
    Some(match name {
        "diffie-hellman-group1-sha1" => "1024-bit group, breakable; RFC 9142 §4",
        "diffie-hellman-group14-sha1" | "diffie-hellman-group-exchange-sha1" => "SHA-1; RFC 9142 §3",
        "ssh-rsa" => "RSA with SHA-1; RFC 8332, RFC 9142",
        "ssh-dss" => "DSA with SHA-1; RFC 9142",
        "hmac-sha1" | "hmac-sha1-96" | "hmac-sha1-etm@openssh.com" | "hmac-sha1-96-etm@openssh.com" => {
            "SHA-1; RFC 9142 §1.1"
        }
        "hmac-md5" | "hmac-md5-96" | "hmac-md5-etm@openssh.com" | "hmac-md5-96-etm@openssh.com" => {
            "MD5; RFC 6151"
        }
        "3des-cbc" | "des-cbc" | "blowfish-cbc" | "cast128-cbc" => {
            "64-bit blocks in CBC mode; RFC 8429, RFC 4344"
        }
        "arcfour" | "arcfour128" | "arcfour256" => "RC4; RFC 8758",
        name if name.contains("-cbc") => "CBC mode leaks plaintext; RFC 4344 §1",
        _ => return None,
    })
}

/// The peers share no algorithm for something.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub struct NothingInCommon {
    /// For what: "key exchange method", "host key algorithm", "cipher", "MAC" …
    pub what: &'static str,
    /// What the peer offers.
    pub theirs: Vec<String>,
    /// What we offer.
    pub ours: Vec<String>,
}

impl std::fmt::Display for NothingInCommon {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "no {} in common; the peer offers ", self.what)?;
        if self.theirs.is_empty() {
            f.write_str("none")?;
        }
        for (index, name) in self.theirs.iter().enumerate().take(20) {
            let comma = if index == 0 { "" } else { ", " };
            let name: String = name.chars().take(64).collect();
            match retired(&name) {
                Some(why) => write!(f, "{comma}{name} (retired: {why})")?,
                None => write!(f, "{comma}{name}")?,
            }
        }
        write!(f, "; we offer {}", self.ours.join(", "))
    }
}
