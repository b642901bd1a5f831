//! The `openssh-key-v1` container: a public half in clear, a private half that bcrypt and AES may protect.
//!
//! Source: the public protocol note on the container. The layout is the magic, the names of cipher and key
//! derivation, the derivation's options, the number of keys, the public blobs, and one private section.

use aes::Aes256;
use aes::cipher::{KeyIvInit, StreamCipher};
use zeroize::Zeroizing;

use super::pem;
use crate::wire::{Reader, Writer};
use crate::{KeyError, PrivateKey, PublicKey, RandomSource, SecretString};

const LABEL: &str = "OPENSSH PRIVATE KEY";
const MAGIC: &[u8] = b"openssh-key-v1\0";
const SALT_LEN: usize = 16;
/// Length of key and initial counter of aes256-ctr, in bytes.
const KEY_AND_IV_LEN: usize = 32 + 16;
/// Block size that the private section is padded to, in bytes: AES's, or 8 when nothing encrypts it.
const AES_BLOCK: usize = 16;

/// bcrypt rounds for new files: about a third of a second on a desktop of today.
pub const DEFAULT_ROUNDS: u32 = 32;
/// Most bcrypt rounds that we spend on a file unasked: about ten seconds.
pub const MAX_ROUNDS: u32 = 1024;

type Aes256Ctr = ctr::Ctr128BE<Aes256>;

/// How the private section is protected.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Protection {
    None,
    BcryptAes256Ctr { salt: Vec<u8>, rounds: u32 },
}

/// A parsed container that has not been opened yet.
pub struct Sealed {
    protection: Protection,
    public: PublicKey,
    private_section: Zeroizing<Vec<u8>>,
}

impl std::fmt::Debug for Sealed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Sealed({:?}, {})", self.public, self.describe())
    }
}

impl Sealed {
    /// Reads the armoured container.
    ///
    /// # Errors
    /// Not this container, damaged, protected in a way that we don't read, or costlier than our limits.
    pub fn parse(text: &str) -> Result<Self, KeyError> {
        let bytes = pem::decode(text, LABEL)?;
        let rest = bytes.strip_prefix(MAGIC).ok_or(KeyError::Malformed("the magic is missing"))?;
        let mut reader = Reader::new(rest);
        let cipher = reader.text("cipher name")?;
        let kdf = reader.text("key derivation name")?;
        let options = reader.string("key derivation options")?;
        let count = reader.u32("number of keys")?;
        if count != 1 {
            return Err(KeyError::Unsupported {
                what: "number of keys",
                met: count.to_string(),
                why: "we read one key a file",
            });
        }
        let public = PublicKey::decode(reader.string("public key")?)?;
        let private_section = Zeroizing::new(reader.string("private section")?.to_vec());
        reader.finish()?;
        let protection = parse_protection(cipher, kdf, options)?;
        Ok(Self { protection, public, private_section })
    }

    /// The public half.
    pub fn public(&self) -> &PublicKey {
        &self.public
    }

    /// Whether a passphrase protects the private half.
    pub fn is_protected(&self) -> bool {
        self.protection != Protection::None
    }

    /// The container and its protection, in words.
    pub fn describe(&self) -> String {
        match &self.protection {
            Protection::None => "openssh-key-v1, no passphrase".into(),
            Protection::BcryptAes256Ctr { rounds, .. } => {
                format!("openssh-key-v1, aes256-ctr, bcrypt with {rounds} rounds")
            }
        }
    }

    /// Opens the private half.
    ///
    /// # Errors
    /// See [`super::Sealed::open`].
    pub fn open(&self, passphrase: Option<&SecretString>) -> Result<PrivateKey, KeyError> {
        let mut section = self.private_section.clone();
        let block = match &self.protection {
            Protection::None => 8,
            Protection::BcryptAes256Ctr { salt, rounds } => {
                let passphrase =
                    passphrase.filter(|text| !text.is_empty()).ok_or(KeyError::PassphraseNeeded)?;
                cipher(passphrase, salt, *rounds)?.apply_keystream(&mut section);
                AES_BLOCK
            }
        };
        if !section.len().is_multiple_of(block) {
            return Err(KeyError::Malformed("the private section is not a whole number of blocks"));
        }
        self.parse_private(&section)
    }

    fn parse_private(&self, section: &[u8]) -> Result<PrivateKey, KeyError> {
        let mut reader = Reader::new(section);
        // Two equal random numbers tell a wrong passphrase from damage: 2⁻³² chance of mistaking them.
        if reader.u32("check number")? != reader.u32("check number")? {
            return Err(if self.is_protected() {
                KeyError::WrongPassphrase
            } else {
                KeyError::Malformed("the two check numbers differ")
            });
        }
        let key = PrivateKey::decode_parts(&mut reader)?;
        if reader.rest().iter().zip(1u8..).any(|(byte, expected)| *byte != expected) {
            return Err(KeyError::Malformed("the padding is not 1, 2, 3 …"));
        }
        if *key.public() != self.public {
            return Err(KeyError::Inconsistent("the private half does not belong to the public half"));
        }
        Ok(key)
    }
}

fn parse_protection(cipher: &str, kdf: &str, options: &[u8]) -> Result<Protection, KeyError> {
    let unsupported = |what, met: &str| KeyError::Unsupported {
        what,
        met: met.chars().take(64).collect(),
        why: "we read none, and aes256-ctr with bcrypt",
    };
    match (cipher, kdf) {
        ("none", "none") if options.is_empty() => Ok(Protection::None),
        ("aes256-ctr", "bcrypt") => {
            let mut reader = Reader::new(options);
            let salt = reader.string("salt")?.to_vec();
            let rounds = reader.u32("bcrypt rounds")?;
            reader.finish()?;
            if salt.is_empty() || salt.len() > 256 || rounds == 0 {
                return Err(KeyError::Malformed("bcrypt needs a short salt and at least one round"));
            }
            if rounds > MAX_ROUNDS {
                return Err(KeyError::TooCostly {
                    what: "rounds of bcrypt",
                    met: rounds.into(),
                    limit: MAX_ROUNDS.into(),
                });
            }
            Ok(Protection::BcryptAes256Ctr { salt, rounds })
        }
        ("aes256-ctr", other) => Err(unsupported("key derivation", other)),
        (other, _) => Err(unsupported("cipher", other)),
    }
}

fn cipher(passphrase: &SecretString, salt: &[u8], rounds: u32) -> Result<Aes256Ctr, KeyError> {
    let mut derived = Zeroizing::new([0; KEY_AND_IV_LEN]);
    bcrypt_pbkdf::bcrypt_pbkdf(passphrase.expose_secret(), salt, rounds, &mut *derived)
        .map_err(|_| KeyError::Refused("derive a key from the passphrase"))?;
    let (key, iv) = derived.split_at(32);
    Aes256Ctr::new_from_slices(key, iv).map_err(|_| KeyError::Refused("set up aes256-ctr"))
}

/// Writes a key down, protected when there is a passphrase. The text is secret either way.
///
/// # Errors
/// [`KeyError::Refused`] when the cryptographic library fails.
pub fn format(
    key: &PrivateKey,
    passphrase: Option<&SecretString>,
    rounds: u32,
    random: &mut dyn RandomSource,
) -> Result<Zeroizing<String>, KeyError> {
    let passphrase = passphrase.filter(|text| !text.is_empty());
    let parts = key.encode_parts()?;
    let mut check = [0; 4];
    random.fill(&mut check);
    let mut section = Zeroizing::new(Vec::with_capacity(parts.len() + 8 + AES_BLOCK));
    section.put(&check);
    section.put(&check);
    section.put(&parts);
    let block = if passphrase.is_some() { AES_BLOCK } else { 8 };
    for pad in 1u8.. {
        if section.len().is_multiple_of(block) {
            break;
        }
        section.put_byte(pad);
    }

    let mut options = Vec::new();
    let (cipher_name, kdf_name) = match passphrase {
        None => ("none", "none"),
        Some(passphrase) => {
            let mut salt = [0; SALT_LEN];
            random.fill(&mut salt);
            options.put_string(&salt);
            options.put_uint32(rounds);
            cipher(passphrase, &salt, rounds)?.apply_keystream(&mut section);
            ("aes256-ctr", "bcrypt")
        }
    };
    let mut out = Zeroizing::new(Vec::with_capacity(section.len() + 2048));
    out.put(MAGIC);
    out.put_string(cipher_name.as_bytes());
    out.put_string(kdf_name.as_bytes());
    out.put_string(&options);
    out.put_uint32(1);
    out.put_string(&key.public().encode());
    out.put_string(&section);
    Ok(pem::encode(&out, LABEL))
}
