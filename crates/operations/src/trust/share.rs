//! What one has verified, for a team: handed out signed, and taken in from whoever is believed.

use std::path::Path;

use lantern_book::{BookError, Home, KeyRing, TrustFile, TrustStore, glob};
use lantern_keys::{Fingerprint, PrivateKey, PublicKey};

/// What is handed out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shared {
    /// The file.
    pub text: String,
    /// How many machines are in it.
    pub machines: usize,
}

/// Writes what is known of the machines with such names (`*` and `?` stand for others; none: of all), signed with a key and its comment. None,
/// when no such machine was met.
///
/// # Errors
/// The trust store, or a key that cannot sign.
pub fn share(
    home: &Home,
    names: &[String],
    signer: Option<(&PrivateKey, &str)>,
) -> Result<Option<Shared>, BookError> {
    let store = TrustStore::load(home)?;
    let wanted = |name: &str| names.is_empty() || names.iter().any(|pattern| glob(pattern, name));
    match store.machines().into_iter().filter(|name| wanted(name)).count() {
        0 => Ok(None),
        machines => Ok(Some(Shared { text: TrustFile::write(&store, wanted, signer)?, machines })),
    }
}

/// Whether somebody's word is taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Belief {
    /// It is signed with a key of the own ring.
    Own,
    /// It is signed with the key that was said to be believed.
    AsSaid,
    /// Nobody signed it.
    Unsigned,
    /// Somebody signed it of whom nothing is known: a person decides.
    Stranger(PublicKey),
}

/// Why a file is not to be believed.
#[derive(Debug, thiserror::Error)]
pub enum ShareError {
    /// The file, the ring or the trust store.
    #[error(transparent)]
    Book(#[from] BookError),
    /// The key that signed it was revoked.
    #[error("the key that signed it was revoked: {reason}")]
    Revoked {
        /// Why.
        reason: String,
    },
    /// Another key signed it than the one that was said.
    #[error("it is signed with another key")]
    OtherSigner {
        /// The key that signed it; none: nobody did.
        signed: Option<Fingerprint>,
        /// The key that was said.
        expected: Fingerprint,
    },
}

/// A file that somebody shared, its signature checked.
#[derive(Debug, Clone)]
pub struct Offer {
    /// What it says.
    pub file: TrustFile,
    /// Whether it is to be believed.
    pub belief: Belief,
}

/// What came of taking it in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    /// Machines that something new is known of.
    pub taken: Vec<String>,
    /// Machines that are known by other keys here, and stay so.
    pub left: Vec<String>,
}

impl Offer {
    /// Reads a file and finds out whom it is from. `signer`: the fingerprint of the key, or its name in the ring, that is to be believed.
    ///
    /// # Errors
    /// See [`ShareError`].
    pub fn read(home: &Home, path: &Path, text: &str, signer: Option<&str>) -> Result<Self, ShareError> {
        let file = TrustFile::read(path, text)?;
        let store = TrustStore::load(home)?;
        let signed = file.signer.as_ref().map(PublicKey::fingerprint);
        if let Some(revoked) = signed.and_then(|fingerprint| store.is_revoked(&fingerprint)) {
            return Err(ShareError::Revoked { reason: revoked.reason.clone() });
        }
        let ring = KeyRing::new(home);
        if let Some(typed) = signer {
            let expected = match typed.parse::<Fingerprint>() {
                Ok(expected) => expected,
                Err(_) => ring.get(typed)?.public.fingerprint(),
            };
            return match signed == Some(expected) {
                true => Ok(Self { file, belief: Belief::AsSaid }),
                false => Err(ShareError::OtherSigner { signed, expected }),
            };
        }
        let is_own = |key: &PublicKey| Ok::<_, BookError>(ring.name_of(key)?.is_some());
        let belief = match &file.signer {
            None => Belief::Unsigned,
            Some(key) if is_own(key)? => Belief::Own,
            Some(key) => Belief::Stranger(key.clone()),
        };
        Ok(Self { file, belief })
    }

    /// Takes in what it says. Whether it is believed has been decided.
    ///
    /// # Errors
    /// The trust store.
    pub fn take_in(&self, home: &Home) -> Result<Taken, BookError> {
        let (taken, left) = TrustStore::take_in(home, &self.file.records, &self.file.revoked)?;
        Ok(Taken { taken, left })
    }
}
