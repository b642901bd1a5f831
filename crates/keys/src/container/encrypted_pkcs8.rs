//! Encrypted PKCS#8: the `EncryptedPrivateKeyInfo` of RFC 5958 §3 with the scheme PBES2 of RFC 8018 §6.2.

use ::pkcs8::spki::AlgorithmIdentifierRef;
use der::asn1::OctetStringRef;
use der::{Decode, Encode, Header, Reader, SliceReader};
use pkcs5::pbes2::{EncryptionScheme, Kdf, Parameters, Pbkdf2Params, Pbkdf2Prf, ScryptParams};
use zeroize::Zeroizing;

use super::work::{Patience, Work};
use super::{oids, pkcs8};
use crate::{KeyError, PrivateKey, RandomSource, SecretString};

/// The label of its armour.
pub(crate) const LABEL: &str = "ENCRYPTED PRIVATE KEY";

/// The hash under PBKDF2.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Prf {
    /// HMAC with SHA-1: read, and written for nobody.
    Sha1,
    /// HMAC with SHA-256.
    Sha256,
    /// HMAC with SHA-384.
    Sha384,
    /// HMAC with SHA-512.
    Sha512,
}

/// How a key is derived from the passphrase in a new file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Derivation {
    /// PBKDF2 with a hash and a number of iterations.
    Pbkdf2(Prf, u32),
    /// scrypt with r = 8, p = 1 and N two to this power.
    Scrypt(u8),
}

/// The cipher of a new file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cipher {
    /// AES-256 in CBC mode.
    Aes256,
    /// AES-192 in CBC mode.
    Aes192,
    /// AES-128 in CBC mode.
    Aes128,
}

/// How to protect a new file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Settings {
    /// The derivation.
    pub derivation: Derivation,
    /// The cipher.
    pub cipher: Cipher,
}

impl Default for Settings {
    /// What every reader of PBES2 knows, at about half a second.
    fn default() -> Self {
        Self { derivation: Derivation::Pbkdf2(Prf::Sha256, 600_000), cipher: Cipher::Aes256 }
    }
}

/// A parsed container that has not been opened yet.
pub struct Sealed {
    parameters: Parameters,
    content: Vec<u8>,
}

impl Sealed {
    /// Reads the DER form.
    pub(crate) fn decode(bytes: &[u8]) -> Result<Self, KeyError> {
        let (algorithm, content) =
            outer(bytes).ok_or(KeyError::Malformed("it is no EncryptedPrivateKeyInfo of RFC 5958"))?;
        if algorithm.oid != oids::PBES2 {
            return Err(KeyError::Unsupported {
                what: "encryption scheme",
                met: algorithm.oid.to_string(),
                why: "we read PBES2 of RFC 8018; the older schemes are broken",
            });
        }
        let parameters =
            algorithm.parameters_any().and_then(|any| Ok(Parameters::try_from(any)?)).map_err(|_| {
                KeyError::Unsupported {
                    what: "PBES2 with derivation and cipher",
                    met: scheme_oids(&algorithm).unwrap_or_else(|| "unreadable".into()),
                    why: "we read PBKDF2 or scrypt with AES or triple DES",
                }
            })?;
        let sealed = Self { parameters, content: content.to_vec() };
        sealed.check()?;
        Ok(sealed)
    }

    /// What shows without a passphrase: a derivation that derives, and whole blocks.
    fn check(&self) -> Result<(), KeyError> {
        match &self.parameters.kdf {
            // RFC 8018 §5.2: a positive number. The library takes none for one.
            Kdf::Pbkdf2(pbkdf2) if pbkdf2.iteration_count == 0 => {
                return Err(KeyError::Malformed("PBKDF2 wants at least one iteration"));
            }
            // RFC 7914 §2.
            Kdf::Scrypt(scrypt) if scrypt.cost_parameter < 2 || !scrypt.cost_parameter.is_power_of_two() => {
                return Err(KeyError::Malformed("the N of scrypt is no power of two above 1"));
            }
            Kdf::Scrypt(scrypt) if scrypt.block_size == 0 || scrypt.parallelization == 0 => {
                return Err(KeyError::Malformed("r and p of scrypt must be at least 1"));
            }
            _ => {}
        }
        let block = if self.is_old_cipher() { 8 } else { 16 };
        let is_gcm = self.cipher_name().ends_with("gcm");
        if self.content.is_empty() || (!is_gcm && !self.content.len().is_multiple_of(block)) {
            return Err(KeyError::Malformed("the encrypted part is not a whole number of blocks"));
        }
        Ok(())
    }

    /// What deriving the key costs.
    pub fn work(&self) -> Work {
        match &self.parameters.kdf {
            Kdf::Scrypt(scrypt) => {
                let memory = scrypt.cost_parameter.saturating_mul(u64::from(scrypt.block_size));
                Work::Scrypt {
                    work: memory.saturating_mul(scrypt.parallelization.into()),
                    memory: memory.saturating_mul(128),
                }
            }
            Kdf::Pbkdf2(pbkdf2) => Work::Pbkdf2(pbkdf2.iteration_count),
            // The library may learn more; what we cannot price is priced too high.
            _ => Work::Pbkdf2(u32::MAX),
        }
    }

    /// Cipher and derivation, in words.
    pub fn describe_protection(&self) -> String {
        let kdf = match &self.parameters.kdf {
            Kdf::Pbkdf2(pbkdf2) => {
                let hash = match pbkdf2.prf {
                    Pbkdf2Prf::HmacWithSha1 => "SHA-1",
                    Pbkdf2Prf::HmacWithSha224 => "SHA-224",
                    Pbkdf2Prf::HmacWithSha256 => "SHA-256",
                    Pbkdf2Prf::HmacWithSha384 => "SHA-384",
                    Pbkdf2Prf::HmacWithSha512 => "SHA-512",
                    _ => "another hash",
                };
                format!("PBKDF2 with {hash} and {} iterations", pbkdf2.iteration_count)
            }
            Kdf::Scrypt(scrypt) => format!(
                "scrypt with N {}, r {}, p {}",
                scrypt.cost_parameter, scrypt.block_size, scrypt.parallelization
            ),
            _ => "another derivation".into(),
        };
        format!("{}, {kdf}", self.cipher_name())
    }

    fn cipher_name(&self) -> &'static str {
        match self.parameters.encryption {
            EncryptionScheme::Aes128Cbc { .. } => "aes-128-cbc",
            EncryptionScheme::Aes192Cbc { .. } => "aes-192-cbc",
            EncryptionScheme::Aes256Cbc { .. } => "aes-256-cbc",
            EncryptionScheme::Aes128Gcm { .. } => "aes-128-gcm",
            EncryptionScheme::Aes256Gcm { .. } => "aes-256-gcm",
            EncryptionScheme::DesEde3Cbc { .. } => "des-ede3-cbc",
            _ => "another cipher",
        }
    }

    /// Whether the cipher itself is retired.
    pub fn is_old_cipher(&self) -> bool {
        matches!(self.parameters.encryption, EncryptionScheme::DesEde3Cbc { .. })
    }

    /// Opens the container.
    ///
    /// # Errors
    /// See [`super::Sealed::open`].
    pub fn open(
        &self,
        passphrase: Option<&SecretString>,
        patience: Patience,
    ) -> Result<PrivateKey, KeyError> {
        let passphrase = passphrase.filter(|text| !text.is_empty()).ok_or(KeyError::PassphraseNeeded)?;
        self.work().check(patience)?;
        let mut content = Zeroizing::new(self.content.clone());
        let plain = self
            .parameters
            .decrypt_in_place(passphrase.expose_secret().as_bytes(), &mut content)
            .map_err(|_| KeyError::WrongPassphraseOrDamaged)?;
        decode_decrypted(plain, pkcs8::decode)
    }
}

/// Reads what came out of a decryption. One element that spans it all shows that the passphrase was right: what is
/// wrong inside of it is damage. Else nothing tells a wrong passphrase, whose padding looked good by chance, from damage.
pub(super) fn decode_decrypted(
    plain: &[u8],
    decode: impl Fn(&[u8]) -> Result<PrivateKey, KeyError>,
) -> Result<PrivateKey, KeyError> {
    let spans_all = SliceReader::new(plain).ok().is_some_and(|mut reader| {
        Header::decode(&mut reader).is_ok_and(|header| {
            header.tag() == der::Tag::Sequence && header.length() == reader.remaining_len()
        })
    });
    if spans_all { decode(plain) } else { Err(KeyError::WrongPassphraseOrDamaged) }
}

/// Derivation and cipher of a PBES2 scheme by their identifiers, for a message.
fn scheme_oids(algorithm: &AlgorithmIdentifierRef<'_>) -> Option<String> {
    let parameters = algorithm.parameters_any().ok()?;
    let mut reader = SliceReader::new(parameters.value()).ok()?;
    let derivation = AlgorithmIdentifierRef::decode(&mut reader).ok()?;
    let cipher = AlgorithmIdentifierRef::decode(&mut reader).ok()?;
    Some(format!("{}, {}", derivation.oid, cipher.oid))
}

/// Scheme and content of an `EncryptedPrivateKeyInfo`.
pub(super) fn outer(bytes: &[u8]) -> Option<(AlgorithmIdentifierRef<'_>, &[u8])> {
    let mut reader = SliceReader::new(bytes).ok()?;
    let parsed = reader.sequence(|reader| {
        let algorithm = AlgorithmIdentifierRef::decode(reader)?;
        let content = <&OctetStringRef>::decode(reader)?;
        Ok::<_, der::Error>((algorithm, content.as_bytes()))
    });
    parsed.ok().filter(|_| reader.is_finished())
}

/// Writes a key down, protected.
///
/// # Errors
/// [`KeyError::Refused`] when the cryptographic library fails.
pub(crate) fn encode(
    key: &PrivateKey,
    passphrase: &SecretString,
    settings: Settings,
    random: &mut dyn RandomSource,
) -> Result<Vec<u8>, KeyError> {
    let refused = KeyError::Refused("encrypt a key as PKCS#8");
    let (mut salt, mut iv) = ([0; 16], [0; 16]);
    random.fill(&mut salt);
    random.fill(&mut iv);
    let salt = salt.as_slice().try_into().map_err(|_| refused.clone())?;
    let kdf = match settings.derivation {
        Derivation::Pbkdf2(prf, iteration_count) => {
            let prf = match prf {
                Prf::Sha1 => Pbkdf2Prf::HmacWithSha1,
                Prf::Sha256 => Pbkdf2Prf::HmacWithSha256,
                Prf::Sha384 => Pbkdf2Prf::HmacWithSha384,
                Prf::Sha512 => Pbkdf2Prf::HmacWithSha512,
            };
            Kdf::Pbkdf2(Pbkdf2Params { salt, iteration_count, key_length: None, prf })
        }
        Derivation::Scrypt(log_n) => Kdf::Scrypt(ScryptParams {
            salt,
            cost_parameter: 1u64.checked_shl(log_n.into()).ok_or_else(|| refused.clone())?,
            block_size: 8,
            parallelization: 1,
            key_length: None,
        }),
    };
    let encryption = match settings.cipher {
        Cipher::Aes256 => EncryptionScheme::Aes256Cbc { iv },
        Cipher::Aes192 => EncryptionScheme::Aes192Cbc { iv },
        Cipher::Aes128 => EncryptionScheme::Aes128Cbc { iv },
    };
    let parameters = Parameters { kdf, encryption };
    let content = parameters
        .encrypt(passphrase.expose_secret().as_bytes(), &pkcs8::encode(key)?)
        .map_err(|_| refused.clone())?;
    let scheme = pkcs5::EncryptionScheme::Pbes2(parameters).to_der().map_err(|_| refused.clone())?;
    let content =
        OctetStringRef::new(&content).and_then(|content| content.to_der()).map_err(|_| refused.clone())?;
    sequence(&[&scheme, &content]).ok_or(refused)
}

/// A SEQUENCE of elements that are encoded already.
fn sequence(elements: &[&[u8]]) -> Option<Vec<u8>> {
    let body = elements.concat();
    let mut out = Header::new(der::Tag::Sequence, der::Length::try_from(body.len()).ok()?).to_der().ok()?;
    out.extend_from_slice(&body);
    Some(out)
}
