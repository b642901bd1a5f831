//! What can go wrong with a key, and whose fault it is.

use crate::wire::WireError;

/// Why a key could not be read, made or used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// The bytes are not well-formed.
    #[error("the key is damaged: {0}")]
    Malformed(&'static str),
    /// The bytes end early, or lengths inside them do not fit.
    #[error("the key is damaged: {0}")]
    Wire(WireError),
    /// Something that is no key, or none of use here, and what it is.
    #[error("not a usable key: {0}")]
    NotAKey(String),
    /// A text that is no fingerprint.
    #[error("a fingerprint is `SHA256:` and 43 characters of base64, or 64 hexadecimal digits")]
    NotAFingerprint,
    /// The container is protected and no passphrase was given.
    #[error("the key is protected by a passphrase")]
    PassphraseNeeded,
    /// The passphrase does not open the container.
    #[error("the passphrase does not open this key")]
    WrongPassphrase,
    /// What came out of decryption makes no sense, and the container has nothing to tell the causes apart by.
    #[error(
        "the passphrase does not open this key, or its content is damaged; the container cannot tell which"
    )]
    WrongPassphraseOrDamaged,
    /// An algorithm, cipher or derivation that we do not handle.
    #[error("{what} `{met}` is not supported ({why})")]
    Unsupported {
        /// What kind of thing it is: "key algorithm", "cipher" …
        what: &'static str,
        /// Its name as met.
        met: String,
        /// Why we do not handle it.
        why: &'static str,
    },
    /// A file asks for more work or memory than we are ready to spend.
    #[error("the key asks for {met} {what}, more than the limit of {limit}")]
    TooCostly {
        /// The unit: "rounds of bcrypt", "bytes" …
        what: &'static str,
        /// How much was asked for.
        met: u64,
        /// How much we allow.
        limit: u64,
    },
    /// The parts of a key pair contradict each other.
    #[error("the key contradicts itself: {0}")]
    Inconsistent(&'static str),
    /// A signature did not verify.
    #[error("the signature does not verify")]
    BadSignature,
    /// The cryptographic library refused; it does not say why.
    #[error("the cryptographic library refused to {0}")]
    Refused(&'static str),
}

// Not as its source: the message has said it.
impl From<WireError> for KeyError {
    fn from(error: WireError) -> Self {
        Self::Wire(error)
    }
}

/// Longest name of an algorithm, cipher or curve that is repeated in a message, in bytes; those in use have up to 35.
const MAX_NAME_LEN: usize = 40;

impl KeyError {
    /// [`Self::Unsupported`] with a name that a file gave. What is no name is not repeated: where a file is damaged or made to
    /// be, its secret bytes may stand there.
    pub(crate) fn unsupported(what: &'static str, met: &str, why: &'static str) -> Self {
        let is_name = !met.is_empty()
            && met.len() <= MAX_NAME_LEN
            && met.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_.@:".contains(&byte));
        let met = if is_name { met.to_owned() } else { "(no name)".into() };
        Self::Unsupported { what, met, why }
    }
}
