//! The older encrypted PEM: a PKCS#1 or SEC 1 block whose RFC 1421 headers name a cipher and an IV.
//!
//! One MD5 stands between the passphrase and the cipher's key, so that a stolen file can be searched at billions of
//! guesses a second. We read it, and write it for nobody.

use aes::{Aes128, Aes192, Aes256};
use des::{Des, TdesEde3};
use md5::{Digest, Md5};
use zeroize::Zeroizing;

use super::{cbc_mode, encrypted_pkcs8};
use crate::{KeyError, PrivateKey, SecretString};

/// Bytes of the IV that salt the hash.
const SALT_LEN: usize = 8;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Cipher {
    Aes256,
    Aes192,
    Aes128,
    TripleDes,
    Des,
}

impl Cipher {
    /// Name in the header, lengths of key and block in bytes.
    const ALL: [(Self, &'static str, usize, usize); 5] = [
        (Self::Aes256, "AES-256-CBC", 32, 16),
        (Self::Aes192, "AES-192-CBC", 24, 16),
        (Self::Aes128, "AES-128-CBC", 16, 16),
        (Self::TripleDes, "DES-EDE3-CBC", 24, 8),
        (Self::Des, "DES-CBC", 8, 8),
    ];
}

/// A parsed block that has not been opened yet.
pub struct Sealed {
    cipher: Cipher,
    name: &'static str,
    key_len: usize,
    block: usize,
    iv: Vec<u8>,
    content: Vec<u8>,
    decode: fn(&[u8]) -> Result<PrivateKey, KeyError>,
}

impl Sealed {
    /// From the value of `DEK-Info`, the content, and how to read it once it is decrypted.
    pub(crate) fn new(
        dek_info: &str,
        content: Vec<u8>,
        decode: fn(&[u8]) -> Result<PrivateKey, KeyError>,
    ) -> Result<Self, KeyError> {
        let (name, iv) =
            dek_info.split_once(',').ok_or(KeyError::Malformed("DEK-Info wants a cipher and an IV"))?;
        let known = Cipher::ALL.into_iter().find(|(_, known, ..)| known.eq_ignore_ascii_case(name.trim()));
        let Some((cipher, name, key_len, block)) = known else {
            let why = "we read AES, triple DES and DES in CBC mode";
            return Err(KeyError::unsupported("cipher of the older encrypted PEM", name.trim(), why));
        };
        let iv = hex(iv.trim()).filter(|iv| iv.len() == block);
        let iv = iv.ok_or(KeyError::Malformed("the IV of DEK-Info does not fit its cipher"))?;
        if content.is_empty() || !content.len().is_multiple_of(block) {
            return Err(KeyError::Malformed("the encrypted part is not a whole number of blocks"));
        }
        Ok(Self { cipher, name, key_len, block, iv, content, decode })
    }

    /// Cipher and derivation, in words.
    pub fn describe_protection(&self) -> String {
        format!("{}, one MD5", self.name)
    }

    /// Opens the block.
    ///
    /// # Errors
    /// See [`super::Sealed::open`].
    pub fn open(&self, passphrase: Option<&SecretString>) -> Result<PrivateKey, KeyError> {
        let passphrase = passphrase.filter(|text| !text.is_empty()).ok_or(KeyError::PassphraseNeeded)?;
        let key = self.derive(passphrase);
        let mut content = Zeroizing::new(self.content.clone());
        match self.cipher {
            Cipher::Aes256 => cbc_mode::decrypt::<Aes256>(&key, &self.iv, &mut content)?,
            Cipher::Aes192 => cbc_mode::decrypt::<Aes192>(&key, &self.iv, &mut content)?,
            Cipher::Aes128 => cbc_mode::decrypt::<Aes128>(&key, &self.iv, &mut content)?,
            Cipher::TripleDes => cbc_mode::decrypt::<TdesEde3>(&key, &self.iv, &mut content)?,
            Cipher::Des => cbc_mode::decrypt::<Des>(&key, &self.iv, &mut content)?,
        }
        // RFC 1423 §1.1: as many bytes as are missing, each saying how many.
        let pad = content.last().copied().unwrap_or_default();
        let plain_len =
            content.len().checked_sub(pad.into()).filter(|_| (1..=self.block).contains(&pad.into()));
        let (plain, padding) = plain_len
            .and_then(|len| content.split_at_checked(len))
            .filter(|(_, padding)| padding.iter().all(|byte| *byte == pad))
            .ok_or(KeyError::WrongPassphraseOrDamaged)?;
        debug_assert_eq!(padding.len(), usize::from(pad));
        encrypted_pkcs8::decode_decrypted(plain, self.decode)
    }

    /// MD5 over the digest so far, the passphrase and the salt, until there is enough.
    fn derive(&self, passphrase: &SecretString) -> Zeroizing<Vec<u8>> {
        let salt = self.iv.get(..SALT_LEN).unwrap_or(&self.iv);
        let mut out = Zeroizing::new(Vec::with_capacity(self.key_len + 16));
        let mut last = Zeroizing::new([0; 16]);
        while out.len() < self.key_len {
            let mut hash = Md5::new();
            if !out.is_empty() {
                hash.update(last.as_slice());
            }
            hash.update(passphrase.expose_secret().as_bytes());
            hash.update(salt);
            last.copy_from_slice(&hash.finalize());
            out.extend_from_slice(last.as_slice());
        }
        out.truncate(self.key_len);
        out
    }
}

fn hex(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes().chunks(2);
    digits
        .map(|pair| match pair {
            [_, _] => u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok(),
            _ => None,
        })
        .collect()
}
