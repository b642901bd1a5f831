//! The `openssh-key-v1` container: public halves in clear, a private section that bcrypt and a cipher may protect.
//!
//! Source: the public protocol note on the container. The layout is the magic, the names of cipher and key
//! derivation, the derivation's options, the number of keys, the public blobs, and one private section.

use zeroize::Zeroizing;

use super::openssh_cipher::OpensshCipher;
use super::pem;
use super::work::{Patience, Work};
use crate::parts::PrivateParts;
use crate::rsa_numbers::RsaComponents;
use crate::wire::{Reader, Writer};
use crate::{Curve, KeyError, PrivateKey, PublicKey, RandomSource, SecretString};

/// The label of its armour.
pub(crate) const LABEL: &str = "OPENSSH PRIVATE KEY";
const MAGIC: &[u8] = b"openssh-key-v1\0";
const SALT_LEN: usize = 16;
/// Block size that a section is padded to when nothing encrypts it, in bytes.
const PLAIN_BLOCK: usize = 8;
/// Most keys that we read in one container; the writers of this format put one in.
const MAX_KEYS: u32 = 64;

/// bcrypt rounds for new files: about a third of a second on a desktop of today.
pub const DEFAULT_ROUNDS: u32 = 32;

/// How the private section is protected.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Protection {
    cipher: OpensshCipher,
    salt: Vec<u8>,
    rounds: u32,
}

/// A parsed container that has not been opened yet.
pub struct Sealed {
    protection: Option<Protection>,
    publics: Vec<PublicKey>,
    section: Zeroizing<Vec<u8>>,
    tag: Vec<u8>,
    comments: Vec<String>,
}

impl Sealed {
    /// Reads the content of the armour, and checks all that needs no passphrase: without protection that is everything.
    ///
    /// # Errors
    /// Damaged, or protected in a way that we don't read.
    pub(crate) fn decode(bytes: &[u8]) -> Result<Self, KeyError> {
        let rest = bytes.strip_prefix(MAGIC).ok_or(KeyError::Malformed("the magic is missing"))?;
        let mut reader = Reader::new(rest);
        let cipher = reader.text("cipher name")?;
        let kdf = reader.text("key derivation name")?;
        let options = reader.string("key derivation options")?;
        let count = reader.u32("number of keys")?;
        if count == 0 {
            return Err(KeyError::Malformed("there is no key in the container"));
        }
        if count > MAX_KEYS {
            return Err(KeyError::TooCostly {
                what: "keys in one container",
                met: count.into(),
                limit: MAX_KEYS.into(),
            });
        }
        let publics = (0..count)
            .map(|_| PublicKey::decode(reader.string("public key")?))
            .collect::<Result<Vec<_>, KeyError>>()?;
        let protection = parse_protection(cipher, kdf, options)?;
        let section = Zeroizing::new(reader.string("private section")?.to_vec());
        let tag_len = protection.as_ref().map_or(0, |protection| protection.cipher.tag_len());
        // The tag stands behind the section, outside of its length.
        let tag = reader.take(tag_len, "authentication tag")?.to_vec();
        reader.finish()?;
        // CBC takes whole blocks only, so this is checked before, and not by the library.
        let block = protection.as_ref().map_or(PLAIN_BLOCK, |protection| protection.cipher.block());
        if section.is_empty() || !section.len().is_multiple_of(block) {
            return Err(KeyError::Malformed("the private section is not a whole number of blocks"));
        }
        let mut sealed = Self { protection, publics, section, tag, comments: Vec::new() };
        if !sealed.is_protected() {
            let keys = sealed.parse_private(&sealed.section)?;
            sealed.comments = keys.iter().map(|key| key.comment().to_owned()).collect();
        }
        Ok(sealed)
    }

    /// The comments that show: one for each key, or none when a passphrase protects them.
    pub fn comments(&self) -> &[String] {
        &self.comments
    }

    /// The public halves, one or more.
    pub fn publics(&self) -> &[PublicKey] {
        &self.publics
    }

    /// Whether a passphrase protects the private halves.
    pub fn is_protected(&self) -> bool {
        self.protection.is_some()
    }

    /// What deriving the key costs.
    pub fn work(&self) -> Work {
        self.protection.as_ref().map_or(Work::None, |protection| Work::Bcrypt(protection.rounds))
    }

    /// Cipher and derivation, in words.
    pub fn describe_protection(&self) -> Option<String> {
        self.protection.as_ref().map(|protection| {
            format!("{}, bcrypt with {} rounds", protection.cipher.name(), protection.rounds)
        })
    }

    /// Opens the private halves.
    ///
    /// # Errors
    /// See [`super::Sealed::open`].
    pub fn open(
        &self,
        passphrase: Option<&SecretString>,
        patience: Patience,
    ) -> Result<Vec<PrivateKey>, KeyError> {
        let mut section = self.section.clone();
        if let Some(protection) = &self.protection {
            let passphrase = passphrase.filter(|text| !text.is_empty()).ok_or(KeyError::PassphraseNeeded)?;
            self.work().check(patience)?;
            protection.cipher.open(
                passphrase,
                &protection.salt,
                protection.rounds,
                &mut section,
                &self.tag,
            )?;
        }
        self.parse_private(&section)
    }

    fn parse_private(&self, section: &[u8]) -> Result<Vec<PrivateKey>, KeyError> {
        let mut reader = Reader::new(section);
        // Two equal random numbers tell a wrong passphrase from damage: 2⁻³² chance of mistaking them.
        if reader.u32("check number")? != reader.u32("check number")? {
            return Err(if self.is_protected() {
                KeyError::WrongPassphrase
            } else {
                KeyError::Malformed("the two check numbers differ")
            });
        }
        let mut keys = Vec::new();
        for public in &self.publics {
            let key = decode_parts(&mut reader)?;
            if key.public() != public {
                return Err(KeyError::Inconsistent("the private half does not belong to the public half"));
            }
            keys.push(key);
        }
        let padding = reader.rest();
        if padding.len() >= 256 || padding.iter().zip(1u8..).any(|(byte, expected)| *byte != expected) {
            return Err(KeyError::Malformed("the padding is not 1, 2, 3 …"));
        }
        Ok(keys)
    }
}

fn parse_protection(cipher: &str, kdf: &str, options: &[u8]) -> Result<Option<Protection>, KeyError> {
    if (cipher, kdf) == ("none", "none") {
        return match options.is_empty() {
            true => Ok(None),
            false => Err(KeyError::Malformed("options for a key derivation that is none")),
        };
    }
    let cipher = OpensshCipher::ALL.into_iter().find(|known| known.name() == cipher).ok_or_else(|| {
        KeyError::unsupported("cipher", cipher, "we read AES in counter, CBC and GCM mode, and ChaCha20")
    })?;
    if kdf != "bcrypt" {
        return Err(KeyError::unsupported("key derivation", kdf, "this container has bcrypt or none"));
    }
    let mut reader = Reader::new(options);
    let salt = reader.string("salt")?.to_vec();
    let rounds = reader.u32("bcrypt rounds")?;
    reader.finish()?;
    if salt.is_empty() || salt.len() > 256 || rounds == 0 {
        return Err(KeyError::Malformed("bcrypt needs a short salt and at least one round"));
    }
    Ok(Some(Protection { cipher, salt, rounds }))
}

/// How to protect a new file.
#[derive(Debug, Clone, Copy)]
pub struct Settings {
    /// The cipher.
    pub cipher: OpensshCipher,
    /// The rounds of bcrypt.
    pub rounds: u32,
}

impl Default for Settings {
    fn default() -> Self {
        Self { cipher: OpensshCipher::Aes256Ctr, rounds: DEFAULT_ROUNDS }
    }
}

/// Writes a key down, protected when there is a passphrase. The text is secret either way.
///
/// # Errors
/// [`KeyError::Refused`] when the cryptographic library fails.
pub fn format(
    key: &PrivateKey,
    passphrase: Option<&SecretString>,
    settings: Settings,
    random: &mut dyn RandomSource,
) -> Result<Zeroizing<String>, KeyError> {
    format_all(&[key], passphrase, settings, random)
}

/// The same for several keys in one container.
///
/// # Errors
/// As [`format`].
pub fn format_all(
    keys: &[&PrivateKey],
    passphrase: Option<&SecretString>,
    settings: Settings,
    random: &mut dyn RandomSource,
) -> Result<Zeroizing<String>, KeyError> {
    let passphrase = passphrase.filter(|text| !text.is_empty());
    let parts = keys.iter().map(|key| encode_parts(key)).collect::<Result<Vec<_>, _>>()?;
    let mut check = [0; 4];
    random.fill(&mut check);
    // Sized at once, so that growing leaves no copy of secrets behind.
    let len = parts.iter().map(|part| part.len()).sum::<usize>() + 8 + 16;
    let mut section = Zeroizing::new(Vec::with_capacity(len));
    section.put(&check);
    section.put(&check);
    parts.iter().for_each(|part| section.put(part));
    let block = if passphrase.is_some() { settings.cipher.block() } else { PLAIN_BLOCK };
    for pad in 1u8.. {
        if section.len().is_multiple_of(block) {
            break;
        }
        section.put_byte(pad);
    }

    let mut options = Vec::new();
    let mut tag = Vec::new();
    let (cipher_name, kdf_name) = match passphrase {
        None => ("none", "none"),
        Some(passphrase) => {
            let mut salt = [0; SALT_LEN];
            random.fill(&mut salt);
            options.put_string(&salt);
            options.put_uint32(settings.rounds);
            tag = settings.cipher.seal(passphrase, &salt, settings.rounds, &mut section)?;
            (settings.cipher.name(), "bcrypt")
        }
    };
    let mut out = Zeroizing::new(Vec::with_capacity(2 * section.len() + 4096));
    out.put(MAGIC);
    out.put_string(cipher_name.as_bytes());
    out.put_string(kdf_name.as_bytes());
    out.put_string(&options);
    out.put_uint32(u32::try_from(keys.len()).unwrap_or(u32::MAX));
    keys.iter().for_each(|key| out.put_string(&key.public().encode()));
    out.put_string(&section);
    out.put(&tag);
    Ok(pem::encode(&out, LABEL, 70))
}

/// The private part as the container and the agent protocol list it: type name first, comment last.
pub(crate) fn encode_parts(key: &PrivateKey) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    // Sized for the largest RSA key, so that the buffer does not move and leave secrets behind.
    let mut out = Zeroizing::new(Vec::with_capacity(12 * 1024 + key.comment().len()));
    out.put_string(key.public().key_type().as_bytes());
    match key.parts()? {
        PrivateParts::Ed25519 { seed, public } => {
            key.public().encode_parts(&mut out);
            out.put_uint32(64);
            out.put(&seed);
            out.put(&public.unwrap_or_default());
        }
        PrivateParts::Ecdsa { scalar, .. } => {
            key.public().encode_parts(&mut out);
            out.put_mpint(&scalar);
        }
        PrivateParts::Rsa(parts) => {
            for number in [&parts.n, &parts.e, &*parts.d, &*parts.iqmp, &*parts.p, &*parts.q] {
                out.put_mpint(number);
            }
        }
    }
    out.put_string(key.comment().as_bytes());
    Ok(out)
}

/// Reads what [`encode_parts`] writes, checking that the halves belong together.
pub(crate) fn decode_parts(reader: &mut Reader<'_>) -> Result<PrivateKey, KeyError> {
    let key_type = reader.text("key type")?;
    let parts = match key_type {
        "ssh-ed25519" => decode_ed25519(reader)?,
        "ssh-rsa" => {
            let n = reader.mpint("RSA modulus")?.to_vec();
            let e = reader.mpint("RSA exponent")?.to_vec();
            let d = Zeroizing::new(reader.mpint("RSA private exponent")?.to_vec());
            let iqmp = Zeroizing::new(reader.mpint("RSA coefficient")?.to_vec());
            let p = Zeroizing::new(reader.mpint("RSA prime p")?.to_vec());
            let q = Zeroizing::new(reader.mpint("RSA prime q")?.to_vec());
            PrivateParts::Rsa(RsaComponents { n, e, d, iqmp, p, q })
        }
        other => decode_ecdsa(other, reader)?,
    };
    let comment = String::from_utf8_lossy(reader.string("comment")?).into_owned();
    PrivateKey::from_parts(parts, comment)
}

fn decode_ed25519(reader: &mut Reader<'_>) -> Result<PrivateParts, KeyError> {
    let public = reader.string("Ed25519 public key")?;
    let both = reader.string("Ed25519 private key")?;
    let Some((seed, public_again)) = both.split_at_checked(32).filter(|(_, public)| public.len() == 32)
    else {
        return Err(KeyError::Malformed("an Ed25519 private key has 64 bytes"));
    };
    if public != public_again {
        return Err(KeyError::Inconsistent("the two copies of the public half differ"));
    }
    Ok(PrivateParts::Ed25519 { seed: Zeroizing::new(seed.to_vec()), public: Some(public.to_vec()) })
}

fn decode_ecdsa(key_type: &str, reader: &mut Reader<'_>) -> Result<PrivateParts, KeyError> {
    let curve = key_type.strip_prefix("ecdsa-sha2-").and_then(Curve::from_identifier);
    let curve = curve.ok_or_else(|| crate::public::unsupported_key_type(key_type))?;
    if reader.text("curve")? != curve.identifier() {
        return Err(KeyError::Inconsistent("the curve is not the one that the key type names"));
    }
    let point = reader.string("curve point")?.to_vec();
    let scalar = Zeroizing::new(reader.mpint("ECDSA private key")?.to_vec());
    Ok(PrivateParts::Ecdsa { curve, scalar, point: Some(point) })
}
