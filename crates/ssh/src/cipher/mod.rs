//! Packet protection: one type to seal packets and one to open them, whatever the algorithms (RFC 4253 §6).

mod chacha;
mod ctr_mac;
mod gcm;

use zeroize::Zeroizing;

use crate::SshError;
use crate::algorithm::CipherAlgorithm;
use crate::negotiate::Direction;

/// Keys of one direction, as the key schedule derives them.
pub(crate) struct DirectionKeys {
    pub(crate) key: Zeroizing<Vec<u8>>,
    pub(crate) iv: Zeroizing<Vec<u8>>,
    pub(crate) mac: Zeroizing<Vec<u8>>,
}

/// Length of the packet_length field.
pub(crate) const LENGTH_LEN: usize = 4;

/// Protects or opens the packets of one direction, in place.
pub(crate) enum PacketCipher {
    /// Before the first key exchange.
    Clear,
    /// AES-GCM
    Gcm(Box<gcm::Gcm>),
    /// ChaCha20-Poly1305: one type for each use, since the library keeps them apart.
    ChaChaSeal(Box<chacha::Seal>),
    ChaChaOpen(Box<chacha::Open>),
    /// AES-CTR with HMAC
    CtrMac(Box<ctr_mac::CtrMac>),
}

/// Which way packets go through a cipher.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Use {
    Seal,
    Open,
}

impl PacketCipher {
    pub(crate) fn new(direction: Direction, keys: &DirectionKeys, usage: Use) -> Result<Self, SshError> {
        let refused = || SshError::Crypto("set up a cipher");
        Ok(match direction.cipher {
            CipherAlgorithm::Aes256Gcm | CipherAlgorithm::Aes128Gcm => {
                Self::Gcm(Box::new(gcm::Gcm::new(direction.cipher, keys).ok_or_else(refused)?))
            }
            CipherAlgorithm::ChaCha20Poly1305 => match usage {
                Use::Seal => Self::ChaChaSeal(Box::new(chacha::Seal::new(keys).ok_or_else(refused)?)),
                Use::Open => Self::ChaChaOpen(Box::new(chacha::Open::new(keys).ok_or_else(refused)?)),
            },
            cipher => {
                let mac = direction.mac.ok_or_else(refused)?;
                Self::CtrMac(Box::new(ctr_mac::CtrMac::new(cipher, mac, keys).ok_or_else(refused)?))
            }
        })
    }

    /// Length of the tag behind a packet, in bytes.
    pub(crate) fn tag_len(&self) -> usize {
        match self {
            Self::Clear => 0,
            Self::Gcm(_) | Self::ChaChaSeal(_) | Self::ChaChaOpen(_) => 16,
            Self::CtrMac(cipher) => cipher.tag_len(),
        }
    }

    /// What the padded part must be a multiple of, in bytes.
    pub(crate) fn block_len(&self) -> usize {
        match self {
            Self::Clear | Self::ChaChaSeal(_) | Self::ChaChaOpen(_) => 8,
            Self::Gcm(_) | Self::CtrMac(_) => 16,
        }
    }

    /// Whether the length field is part of what is padded: not when it is authenticated apart from the rest.
    pub(crate) fn pads_length(&self) -> bool {
        match self {
            Self::Clear => true,
            Self::CtrMac(cipher) => !cipher.is_etm(),
            _ => false,
        }
    }

    /// How many bytes must be there before the length can be read.
    pub(crate) fn head_len(&self) -> usize {
        match self {
            Self::CtrMac(cipher) if !cipher.is_etm() => 16,
            _ => LENGTH_LEN,
        }
    }

    /// Reads the length of the packet that starts with `head`. Called once a packet: plain CTR decrypts the head in
    /// place here.
    pub(crate) fn open_length(&mut self, sequence: u32, head: &mut [u8]) -> u32 {
        let clear = |head: &[u8]| head.first_chunk().map_or(0, |bytes| u32::from_be_bytes(*bytes));
        match self {
            Self::ChaChaOpen(cipher) => cipher.open_length(sequence, head),
            Self::CtrMac(cipher) if !cipher.is_etm() => {
                cipher.apply(head);
                clear(head)
            }
            _ => clear(head),
        }
    }

    /// Verifies and decrypts a whole packet in place; `packet` holds the length, the body and the tag.
    pub(crate) fn open(&mut self, sequence: u32, packet: &mut [u8]) -> Result<(), SshError> {
        let verified = match self {
            Self::Clear => true,
            Self::Gcm(cipher) => cipher.open(packet),
            Self::ChaChaOpen(cipher) => cipher.open(sequence, packet),
            Self::CtrMac(cipher) => cipher.open(sequence, packet),
            Self::ChaChaSeal(_) => false,
        };
        if verified { Ok(()) } else { Err(SshError::MacMismatch) }
    }

    /// Encrypts a whole packet in place and fills in its tag; laid out as for [`Self::open`].
    pub(crate) fn seal(&mut self, sequence: u32, packet: &mut [u8]) -> Result<(), SshError> {
        let sealed = match self {
            Self::Clear => true,
            Self::Gcm(cipher) => cipher.seal(packet),
            Self::ChaChaSeal(cipher) => cipher.seal(sequence, packet),
            Self::CtrMac(cipher) => cipher.seal(sequence, packet),
            Self::ChaChaOpen(_) => false,
        };
        if sealed { Ok(()) } else { Err(SshError::Crypto("encrypt a packet")) }
    }
}
