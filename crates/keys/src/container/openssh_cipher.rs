//! The ciphers of `openssh-key-v1` by name: bcrypt makes key and IV, one of these protects the private section.

use aes::cipher::{KeyInit, KeyIvInit, StreamCipher, StreamCipherSeek};
use aes::{Aes128, Aes192, Aes256};
use aws_lc_rs::aead::{AES_128_GCM, AES_256_GCM, Aad, Algorithm, LessSafeKey, Nonce, UnboundKey};
use chacha20::ChaCha20Legacy;
use poly1305::Poly1305;
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

use super::cbc_mode;
use crate::{KeyError, SecretString};

/// A cipher that may protect a private section.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OpensshCipher {
    /// `aes256-ctr`: what we write, and what every reader of the container knows.
    Aes256Ctr,
    /// `aes192-ctr`
    Aes192Ctr,
    /// `aes128-ctr`
    Aes128Ctr,
    /// `aes256-cbc`
    Aes256Cbc,
    /// `aes192-cbc`
    Aes192Cbc,
    /// `aes128-cbc`
    Aes128Cbc,
    /// `aes256-gcm@openssh.com`
    Aes256Gcm,
    /// `aes128-gcm@openssh.com`
    Aes128Gcm,
    /// `chacha20-poly1305@openssh.com`
    ChaCha20Poly1305,
}

use OpensshCipher::*;

/// Length of an authentication tag, in bytes.
const TAG_LEN: usize = 16;

impl OpensshCipher {
    /// All of them, the one that we write first.
    pub const ALL: [Self; 9] = [
        Aes256Ctr,
        Aes192Ctr,
        Aes128Ctr,
        Aes256Cbc,
        Aes192Cbc,
        Aes128Cbc,
        Aes256Gcm,
        Aes128Gcm,
        ChaCha20Poly1305,
    ];

    /// Its name in the container.
    pub fn name(self) -> &'static str {
        match self {
            Aes256Ctr => "aes256-ctr",
            Aes192Ctr => "aes192-ctr",
            Aes128Ctr => "aes128-ctr",
            Aes256Cbc => "aes256-cbc",
            Aes192Cbc => "aes192-cbc",
            Aes128Cbc => "aes128-cbc",
            Aes256Gcm => "aes256-gcm@openssh.com",
            Aes128Gcm => "aes128-gcm@openssh.com",
            ChaCha20Poly1305 => "chacha20-poly1305@openssh.com",
        }
    }

    /// The cipher with this name, with or without the part after `@`.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL
            .into_iter()
            .find(|cipher| cipher.name() == name || cipher.name().split('@').next() == Some(name))
    }

    /// Length of key and IV, in bytes.
    fn lengths(self) -> (usize, usize) {
        match self {
            Aes256Ctr | Aes256Cbc => (32, 16),
            Aes192Ctr | Aes192Cbc => (24, 16),
            Aes128Ctr | Aes128Cbc => (16, 16),
            Aes256Gcm => (32, 12),
            Aes128Gcm => (16, 12),
            // Two ChaCha20 keys, of which the second would encrypt packet lengths; the nonce is number zero.
            ChaCha20Poly1305 => (64, 0),
        }
    }

    /// The block size that the private section is padded to, in bytes.
    pub(super) fn block(self) -> usize {
        if self == ChaCha20Poly1305 { 8 } else { 16 }
    }

    /// Length of the authentication tag after the private section, in bytes.
    pub(super) fn tag_len(self) -> usize {
        if matches!(self, Aes256Gcm | Aes128Gcm | ChaCha20Poly1305) { TAG_LEN } else { 0 }
    }

    /// Key and IV in one.
    fn derive(self, secret: &SecretString, salt: &[u8], rounds: u32) -> Result<Zeroizing<Vec<u8>>, KeyError> {
        let (key, iv) = self.lengths();
        let mut derived = Zeroizing::new(vec![0; key + iv]);
        bcrypt_pbkdf::bcrypt_pbkdf(secret.expose_secret(), salt, rounds, &mut derived)
            .map_err(|_| KeyError::Refused("derive a key from the passphrase"))?;
        Ok(derived)
    }

    /// Encrypts a padded section in place; the tag.
    pub(super) fn seal(
        self,
        secret: &SecretString,
        salt: &[u8],
        rounds: u32,
        section: &mut [u8],
    ) -> Result<Vec<u8>, KeyError> {
        let derived = self.derive(secret, salt, rounds)?;
        let (key, iv) = derived.split_at(self.lengths().0);
        let refused = || KeyError::Refused("encrypt the private section");
        match self {
            Aes256Ctr | Aes192Ctr | Aes128Ctr => self.counter(key, iv, section)?,
            Aes256Cbc => cbc_mode::encrypt::<Aes256>(key, iv, section)?,
            Aes192Cbc => cbc_mode::encrypt::<Aes192>(key, iv, section)?,
            Aes128Cbc => cbc_mode::encrypt::<Aes128>(key, iv, section)?,
            Aes256Gcm | Aes128Gcm => {
                let (key, nonce) = self.gcm(key, iv)?;
                let tag =
                    key.seal_in_place_separate_tag(nonce, Aad::empty(), section).map_err(|_| refused())?;
                return Ok(tag.as_ref().to_vec());
            }
            ChaCha20Poly1305 => {
                let (mut stream, mac_key) = chacha(key)?;
                stream.apply_keystream(section);
                return Ok(poly1305_tag(&mac_key, section)?.to_vec());
            }
        }
        Ok(Vec::new())
    }

    /// Decrypts a section in place. A tag that does not fit means a wrong passphrase or damage.
    pub(super) fn open(
        self,
        secret: &SecretString,
        salt: &[u8],
        rounds: u32,
        section: &mut [u8],
        tag: &[u8],
    ) -> Result<(), KeyError> {
        let derived = self.derive(secret, salt, rounds)?;
        let (key, iv) = derived.split_at(self.lengths().0);
        match self {
            Aes256Ctr | Aes192Ctr | Aes128Ctr => self.counter(key, iv, section)?,
            Aes256Cbc => cbc_mode::decrypt::<Aes256>(key, iv, section)?,
            Aes192Cbc => cbc_mode::decrypt::<Aes192>(key, iv, section)?,
            Aes128Cbc => cbc_mode::decrypt::<Aes128>(key, iv, section)?,
            Aes256Gcm | Aes128Gcm => {
                let (key, nonce) = self.gcm(key, iv)?;
                let mut both = Zeroizing::new([section, tag].concat());
                let plain = key
                    .open_in_place(nonce, Aad::empty(), &mut both)
                    .map_err(|_| KeyError::WrongPassphraseOrDamaged)?;
                section.copy_from_slice(plain);
            }
            ChaCha20Poly1305 => {
                let (mut stream, mac_key) = chacha(key)?;
                if !bool::from(poly1305_tag(&mac_key, section)?.ct_eq(tag)) {
                    return Err(KeyError::WrongPassphraseOrDamaged);
                }
                stream.apply_keystream(section);
            }
        }
        Ok(())
    }

    fn counter(self, key: &[u8], iv: &[u8], section: &mut [u8]) -> Result<(), KeyError> {
        let refused = |_| KeyError::Refused("set up AES in counter mode");
        match self {
            Aes192Ctr => {
                ctr::Ctr128BE::<Aes192>::new_from_slices(key, iv).map_err(refused)?.apply_keystream(section)
            }
            Aes128Ctr => {
                ctr::Ctr128BE::<Aes128>::new_from_slices(key, iv).map_err(refused)?.apply_keystream(section)
            }
            _ => ctr::Ctr128BE::<Aes256>::new_from_slices(key, iv).map_err(refused)?.apply_keystream(section),
        }
        Ok(())
    }

    fn gcm(self, key: &[u8], iv: &[u8]) -> Result<(LessSafeKey, Nonce), KeyError> {
        let refused = |_| KeyError::Refused("set up AES-GCM");
        let algorithm: &Algorithm = if self == Aes256Gcm { &AES_256_GCM } else { &AES_128_GCM };
        let key = LessSafeKey::new(UnboundKey::new(algorithm, key).map_err(refused)?);
        Ok((key, Nonce::try_assume_unique_for_key(iv).map_err(refused)?))
    }
}

/// The stream at its second block, and the Poly1305 key of the first: as packets with number zero have it.
fn chacha(key: &[u8]) -> Result<(ChaCha20Legacy, Zeroizing<[u8; 32]>), KeyError> {
    let refused = || KeyError::Refused("set up ChaCha20");
    let main = key.get(..32).ok_or_else(refused)?;
    let mut stream = ChaCha20Legacy::new_from_slices(main, &[0; 8]).map_err(|_| refused())?;
    let mut mac_key = Zeroizing::new([0; 32]);
    stream.apply_keystream(mac_key.as_mut_slice());
    stream.seek(64u32);
    Ok((stream, mac_key))
}

fn poly1305_tag(key: &[u8; 32], section: &[u8]) -> Result<[u8; TAG_LEN], KeyError> {
    let mac = Poly1305::new_from_slice(key).map_err(|_| KeyError::Refused("set up Poly1305"))?;
    Ok(mac.compute_unpadded(section).into())
}
