//! The same key in another container, proven to be the same.

use lantern_book::{BookError, proven_private, write_new};
use lantern_keys::container::encrypted_pkcs8::{Cipher, Derivation, Prf};
use lantern_keys::container::work::{MAX_BCRYPT_ROUNDS, MAX_PBKDF2_ITERATIONS};
use lantern_keys::container::{
    OpensshCipher, PrivateContainer, Protect, PublicContainer, PublicFile, Sealed, write_public,
};
use lantern_keys::{KeyError, PrivateKey, SecretString, SystemRandom};
use std::path::Path;
use zeroize::Zeroizing;

/// Iterations of PBKDF2 when nothing is said: what OWASP recommends for HMAC-SHA-256.
const PBKDF2_ITERATIONS: u32 = 600_000;
/// The power of two of scrypt's cost when nothing is said: more would need more memory than other readers allow.
const SCRYPT_POWER: u32 = 14;

/// How a new container is closed, where something is said about it.
#[derive(Debug, Clone, Default)]
pub struct ProtectOptions {
    /// The cipher, by the container's name for it.
    pub cipher: Option<String>,
    /// The key derivation.
    pub derivation: Option<String>,
    /// Its cost: rounds of bcrypt, iterations of PBKDF2, or the power of two of scrypt.
    pub cost: Option<u32>,
}

/// Why a key is not converted.
#[derive(Debug, thiserror::Error)]
pub enum ConvertError {
    /// The container cannot hold this key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The file.
    #[error(transparent)]
    Book(#[from] BookError),
    /// The key has a passphrase, and the container cannot hold one.
    #[error("{} cannot hold a passphrase in a way that protects: one MD5 would stand before the key", .0.name())]
    CannotProtect(PrivateContainer),
    /// A cipher or a derivation that the container does not have.
    #[error("{} has no {what} `{name}`", container.name())]
    Unknown {
        /// The container.
        container: PrivateContainer,
        /// "cipher" or "derivation".
        what: &'static str,
        /// What was said.
        name: String,
    },
    /// There is nothing that a cipher or a cost would be for.
    #[error("cipher and cost make sense with a passphrase only")]
    NothingToProtect,
    /// The cost would compute for minutes, or for years.
    #[error("a cost of {cost} is above {most}, which takes minutes already")]
    TooDear {
        /// What was said.
        cost: u32,
        /// The most.
        most: u32,
    },
    /// The cost is none.
    #[error("the cost must be at least 1")]
    NoCost,
    /// Scrypt's cost is a power of two.
    #[error("the cost of scrypt is a power of two from 10 to 20")]
    ScryptCost,
}

/// Whether a closed key may go into a container: one that cannot hold a passphrase would leave it in the open.
///
/// # Errors
/// [`ConvertError::CannotProtect`].
pub fn check_container(sealed: &Sealed, container: PrivateContainer) -> Result<(), ConvertError> {
    match sealed.is_protected() && !container.can_protect() {
        true => Err(ConvertError::CannotProtect(container)),
        false => Ok(()),
    }
}

/// Cipher and derivation for a new container.
///
/// # Errors
/// What makes no sense for the container.
pub fn protection<'a>(
    container: PrivateContainer,
    passphrase: Option<&'a SecretString>,
    options: &ProtectOptions,
) -> Result<Protect<'a>, ConvertError> {
    let ProtectOptions { cipher, derivation, cost } = options;
    let mut protect = Protect::with(passphrase);
    let unknown =
        |what: &'static str, name: &str| ConvertError::Unknown { container, what, name: name.to_owned() };
    let is_tuned = cipher.is_some() || derivation.is_some() || cost.is_some();
    if is_tuned && (passphrase.is_none() || !container.can_protect()) {
        return Err(ConvertError::NothingToProtect);
    }
    let most = if container == PrivateContainer::OpensshKeyV1 {
        if let Some(name) = cipher {
            let cipher = OpensshCipher::from_name(name);
            protect.openssh.cipher = cipher.ok_or_else(|| unknown("cipher", name))?;
        }
        if let Some(name) = derivation.as_ref().filter(|name| *name != "bcrypt") {
            return Err(unknown("derivation", name));
        }
        protect.openssh.rounds = cost.unwrap_or(protect.openssh.rounds);
        10 * MAX_BCRYPT_ROUNDS
    } else {
        if let Some(name) = cipher {
            protect.pkcs8.cipher = match name.as_str() {
                "aes256-cbc" => Cipher::Aes256,
                "aes192-cbc" => Cipher::Aes192,
                "aes128-cbc" => Cipher::Aes128,
                _ => return Err(unknown("cipher", name)),
            };
        }
        let pbkdf2 = |prf| Derivation::Pbkdf2(prf, cost.unwrap_or(PBKDF2_ITERATIONS));
        protect.pkcs8.derivation = match derivation.as_deref() {
            None | Some("pbkdf2-sha256") => pbkdf2(Prf::Sha256),
            Some("pbkdf2-sha384") => pbkdf2(Prf::Sha384),
            Some("pbkdf2-sha512") => pbkdf2(Prf::Sha512),
            Some("scrypt") => match cost.unwrap_or(SCRYPT_POWER) {
                power @ 10..=20 => Derivation::Scrypt(power as u8),
                _ => return Err(ConvertError::ScryptCost),
            },
            Some(name) => return Err(unknown("derivation", name)),
        };
        match protect.pkcs8.derivation {
            Derivation::Pbkdf2(..) => 10 * MAX_PBKDF2_ITERATIONS,
            Derivation::Scrypt(_) => u32::MAX,
        }
    };
    // Minutes to open is more than anybody means; a slip of the keyboard would compute for years.
    match *cost {
        Some(cost) if cost > most => Err(ConvertError::TooDear { cost, most }),
        Some(0) => Err(ConvertError::NoCost),
        _ => Ok(protect),
    }
}

/// The key in this container, opened again and proven to be the same.
///
/// # Errors
/// A container that cannot hold this key.
pub fn convert_private(
    key: &PrivateKey,
    container: PrivateContainer,
    protect: Protect<'_>,
) -> Result<Zeroizing<Vec<u8>>, ConvertError> {
    Ok(proven_private(key, container, protect, &mut SystemRandom)?)
}

/// The same, written to a file of its own, for the owner alone.
///
/// # Errors
/// A file that is there, unless `replace`; what writing runs into.
pub fn convert_private_to(
    path: &Path,
    key: &PrivateKey,
    container: PrivateContainer,
    protect: Protect<'_>,
    replace: bool,
) -> Result<(), ConvertError> {
    let content = convert_private(key, container, protect)?;
    Ok(write_new(path, &content, 0o600, replace)?)
}

/// A public half in another container.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConvertedPublic {
    /// The new content.
    pub content: Vec<u8>,
    /// Whether there was a comment that it has no place for.
    pub lost_comment: bool,
    /// Whether there were options of a line that it has no place for.
    pub lost_options: bool,
}

/// A public half in this container.
///
/// # Errors
/// A container that cannot hold this key.
pub fn convert_public(
    public: &PublicFile,
    container: PublicContainer,
) -> Result<ConvertedPublic, ConvertError> {
    let PublicFile { key, comment, options, .. } = public;
    let mut content = write_public(key, comment, container)?;
    let keeps_options = container == PublicContainer::Line;
    if keeps_options && !options.is_empty() {
        content.splice(0..0, format!("{options} ").into_bytes());
    }
    Ok(ConvertedPublic {
        content,
        lost_comment: !comment.is_empty() && !container.keeps_comment(),
        lost_options: !options.is_empty() && !keeps_options,
    })
}
