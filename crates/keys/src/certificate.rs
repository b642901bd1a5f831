//! Certificates of SSH keys: a public key, who may use it as whom and for how long, signed by another key.
//!
//! Source: the public protocol note on them and draft-miller-ssh-cert. They are described here, not used.

use crate::wire::{Reader, WireError, Writer};
use crate::{Fingerprint, KeyError, PublicKey, Signature};

/// How the types of certificates end.
pub const SUFFIX: &str = "-cert-v01@openssh.com";
/// The moment that means "for ever".
pub const FOREVER: u64 = u64::MAX;

/// Whom a certificate speaks of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CertificateKind {
    /// A user who logs in.
    User,
    /// A host that is logged in to.
    Host,
    /// A number that nobody has given a meaning.
    Unknown(u32),
}

/// What became of checking the signature.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CertificateSignature {
    /// It is the signing key's.
    Good,
    /// It is not, or not over this.
    Bad,
    /// Made by a key or an algorithm that we don't handle.
    Unchecked,
}

/// A certificate, parsed. Texts are what the signer wrote, and may hold anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// Its type on the wire.
    pub key_type: String,
    /// The certified key, when it is one that we handle.
    pub key: Option<PublicKey>,
    /// The fingerprint of the certified key.
    pub key_fingerprint: Fingerprint,
    /// Whom it speaks of.
    pub kind: CertificateKind,
    /// The signer's number for it.
    pub serial: u64,
    /// The signer's name for it.
    pub id: String,
    /// As whom one may log in, or by which names the host goes; anyone's when empty.
    pub principals: Vec<String>,
    /// The first second at which it counts, since 1970.
    pub valid_after: u64,
    /// The first at which it counts no more; [`FOREVER`] is none.
    pub valid_before: u64,
    /// What a server must understand or refuse it: name and value.
    pub critical_options: Vec<(String, String)>,
    /// What it allows: name and value, which mostly is empty.
    pub extensions: Vec<(String, String)>,
    /// The fingerprint of the key that signed it.
    pub signed_by: Fingerprint,
    /// What that key is, when it is one that we handle.
    pub signer: Option<PublicKey>,
    /// Whether it did.
    pub signature: CertificateSignature,
}

/// How many fields the certified key has, by its plain type.
fn key_fields(plain_type: &str) -> Option<usize> {
    Some(match plain_type {
        "ssh-ed25519" => 1,
        "ssh-rsa" | "sk-ssh-ed25519" => 2,
        "ssh-dss" => 4,
        "sk-ecdsa-sha2-nistp256" => 3,
        _ if plain_type.starts_with("ecdsa-sha2-") => 2,
        _ => return None,
    })
}

impl Certificate {
    /// Whether a type on the wire is one of certificates.
    pub fn is_type(key_type: &str) -> bool {
        key_type.ends_with(SUFFIX)
    }

    /// Reads a blob and checks its signature.
    ///
    /// # Errors
    /// Damaged, or of a kind of key that nobody has defined.
    pub fn decode(blob: &[u8]) -> Result<Self, KeyError> {
        let mut reader = Reader::new(blob);
        let key_type = reader.text("certificate type")?;
        let plain_type = key_type.strip_suffix(SUFFIX).unwrap_or_default();
        let count = key_fields(plain_type).ok_or_else(|| crate::public::unsupported_key_type(key_type))?;
        reader.string("nonce")?;
        let mut plain = Vec::with_capacity(blob.len());
        // Types of tokens carry the vendor's part in their plain form too.
        let vendor = if plain_type.starts_with("sk-") { "@openssh.com" } else { "" };
        plain.put_string(format!("{plain_type}{vendor}").as_bytes());
        for _ in 0..count {
            plain.put_string(reader.string("certified key")?);
        }
        let serial = reader.u64("serial")?;
        let kind = match reader.u32("certificate kind")? {
            1 => CertificateKind::User,
            2 => CertificateKind::Host,
            other => CertificateKind::Unknown(other),
        };
        let id = text(reader.string("key id")?);
        let principals = list(reader.string("principals")?, |list| Ok(text(list.string("principal")?)))?;
        let valid_after = reader.u64("valid after")?;
        let valid_before = reader.u64("valid before")?;
        let critical_options = list(reader.string("critical options")?, option)?;
        let extensions = list(reader.string("extensions")?, option)?;
        reader.string("reserved")?;
        let signer = reader.string("signature key")?;
        let signed = blob.get(..blob.len() - reader.rest().len()).unwrap_or_default();
        let signature = reader.string("signature")?;
        reader.finish()?;
        let signed_by = Fingerprint::of_blob(signer);
        let key = match PublicKey::decode(&plain) {
            Ok(key) => Some(key),
            Err(KeyError::Unsupported { .. }) => None,
            Err(error) => return Err(error),
        };
        let signer = PublicKey::decode(signer).ok();
        let signature = match (&signer, Signature::decode(signature)) {
            (Some(signer), Ok(signature)) => match signer.verify(signed, &signature) {
                Ok(()) => CertificateSignature::Good,
                Err(_) => CertificateSignature::Bad,
            },
            (_, Err(KeyError::Unsupported { .. })) | (None, Ok(_)) => CertificateSignature::Unchecked,
            (_, Err(error)) => return Err(error),
        };
        Ok(Self {
            key_type: key_type.to_owned(),
            key,
            key_fingerprint: Fingerprint::of_blob(&plain),
            kind,
            serial,
            id,
            principals,
            valid_after,
            valid_before,
            critical_options,
            extensions,
            signed_by,
            signer,
            signature,
        })
    }

    /// What its key is: "Ed25519", or the type on the wire of a kind that we don't handle.
    pub fn describe_key(&self) -> String {
        match &self.key {
            Some(key) => key.describe(),
            None => self.key_type.strip_suffix(SUFFIX).unwrap_or_default().to_owned(),
        }
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn list<T>(
    bytes: &[u8],
    mut item: impl FnMut(&mut Reader<'_>) -> Result<T, WireError>,
) -> Result<Vec<T>, KeyError> {
    let mut reader = Reader::new(bytes);
    let mut items = Vec::new();
    while !reader.rest().is_empty() {
        items.push(item(&mut reader)?);
    }
    Ok(items)
}

/// A name, and a value that is a string within the string, or nothing.
fn option(reader: &mut Reader<'_>) -> Result<(String, String), WireError> {
    let name = text(reader.string("option name")?);
    let data = reader.string("option value")?;
    let mut inner = Reader::new(data);
    let value = match inner.string("option value") {
        Ok(value) if inner.rest().is_empty() => value,
        _ => data,
    };
    Ok((name, text(value)))
}
