//! The file forms of a private key. Each container is one file here; this module recognises them by content.

pub mod openssh_key_v1;
mod pem;

use crate::{KeyError, PrivateKey, PublicKey, SecretString};

/// Largest file that we read as a key, in bytes: an 8192-bit RSA key with its armour takes under 10 KB.
pub const MAX_FILE_LEN: usize = 1024 * 1024;

/// A private-key container that has been recognised and parsed, but not opened.
#[derive(Debug)]
pub enum Sealed {
    /// `openssh-key-v1`
    OpensshKeyV1(openssh_key_v1::Sealed),
}

impl Sealed {
    /// Recognises a container by its content.
    ///
    /// # Errors
    /// [`KeyError::NotAKey`] for anything else, [`KeyError::Malformed`] for a damaged one.
    pub fn parse(file: &[u8]) -> Result<Self, KeyError> {
        if file.len() > MAX_FILE_LEN {
            return Err(KeyError::TooCostly {
                what: "bytes",
                met: file.len() as u64,
                limit: MAX_FILE_LEN as u64,
            });
        }
        let text = std::str::from_utf8(file).map_err(|_| KeyError::NotAKey("the file is not text"))?;
        if !text.contains("-----BEGIN") {
            return Err(KeyError::NotAKey("no `-----BEGIN` line in it"));
        }
        openssh_key_v1::Sealed::parse(text).map(Self::OpensshKeyV1)
    }

    /// The public half, which is readable without the passphrase.
    pub fn public(&self) -> &PublicKey {
        match self {
            Self::OpensshKeyV1(sealed) => sealed.public(),
        }
    }

    /// Whether a passphrase protects it.
    pub fn is_protected(&self) -> bool {
        match self {
            Self::OpensshKeyV1(sealed) => sealed.is_protected(),
        }
    }

    /// The container, its cipher and what deriving its key costs, in words.
    pub fn describe(&self) -> String {
        match self {
            Self::OpensshKeyV1(sealed) => sealed.describe(),
        }
    }

    /// Opens the container.
    ///
    /// # Errors
    /// [`KeyError::PassphraseNeeded`], [`KeyError::WrongPassphrase`], or why the content is no good key.
    pub fn open(&self, passphrase: Option<&SecretString>) -> Result<PrivateKey, KeyError> {
        match self {
            Self::OpensshKeyV1(sealed) => sealed.open(passphrase),
        }
    }
}
