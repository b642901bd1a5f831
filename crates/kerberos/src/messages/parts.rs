//! What several messages hold (RFC 4120 §5.2), and how parts of them are encrypted.

use der::asn1::OctetString;
use der::{Encode, Sequence};

use crate::asn1::Text;
use crate::encryption::Key;
use crate::{EncryptionType, KerberosError, Principal};

#[derive(Debug, Clone, PartialEq, Eq, Sequence)]
pub(crate) struct Name {
    #[asn1(context_specific = "0")]
    pub(crate) kind: i32,
    #[asn1(context_specific = "1")]
    pub(crate) parts: Vec<Text>,
}

impl Name {
    pub(crate) fn of(principal: &Principal) -> Self {
        let parts = principal.parts.iter().map(|part| Text(part.clone())).collect();
        Self { kind: principal.kind, parts }
    }

    pub(crate) fn at(self, realm: Text) -> Principal {
        let parts = self.parts.into_iter().map(|part| part.0).collect();
        Principal { kind: self.kind, parts, realm: realm.0 }
    }
}

#[derive(Clone, PartialEq, Eq, Sequence)]
pub(crate) struct Encrypted {
    #[asn1(context_specific = "0")]
    pub(crate) etype: i32,
    // Read-only domain controllers number their keys beyond 31 bits, with a sign.
    #[asn1(context_specific = "1", optional = "true")]
    pub(crate) kvno: Option<i64>,
    #[asn1(context_specific = "2")]
    pub(crate) cipher: OctetString,
}

impl Encrypted {
    pub(crate) fn decrypt(
        &self,
        key: &Key,
        usage: u32,
    ) -> Result<zeroize::Zeroizing<Vec<u8>>, KerberosError> {
        if self.etype != key.kind().number() {
            return Err(KerberosError::EncryptionType(vec![self.etype]));
        }
        key.decrypt(usage, self.cipher.as_bytes())
    }
}

#[derive(Sequence)]
pub(crate) struct PlainKey {
    #[asn1(context_specific = "0")]
    kind: i32,
    #[asn1(context_specific = "1")]
    value: OctetString,
}

impl PlainKey {
    pub(crate) fn of(key: &Key) -> Result<Self, KerberosError> {
        Ok(Self { kind: key.kind().number(), value: OctetString::new(key.expose_secret())? })
    }

    pub(crate) fn key(self) -> Result<Key, KerberosError> {
        let kind = EncryptionType::from_number(self.kind)
            .ok_or_else(|| KerberosError::EncryptionType(vec![self.kind]))?;
        Key::new(kind, zeroize::Zeroizing::new(self.value.into_bytes().to_vec()))
    }
}

#[derive(Clone, Sequence)]
pub(crate) struct PaData {
    #[asn1(context_specific = "1")]
    pub(crate) kind: i32,
    #[asn1(context_specific = "2")]
    pub(crate) value: OctetString,
}

#[derive(Sequence)]
pub(crate) struct Checksum {
    #[asn1(context_specific = "0")]
    pub(crate) kind: i32,
    #[asn1(context_specific = "1")]
    pub(crate) value: OctetString,
}

/// What is encrypted, in the form that goes on the wire.
pub(crate) fn encrypted(
    plain: &[u8],
    key: &Key,
    usage: u32,
    random: &mut dyn lantern_keys::RandomSource,
) -> Result<Encrypted, KerberosError> {
    let cipher = OctetString::new(key.encrypt(usage, plain, random))?;
    Ok(Encrypted { etype: key.kind().number(), kvno: None, cipher })
}

/// A list by itself, which is no message of its own.
pub(crate) fn list<T: for<'a> der::Decode<'a, Error = der::Error>>(
    bytes: &[u8],
) -> Result<Vec<T>, KerberosError> {
    Ok(der::Decode::from_der(bytes)?)
}

/// DER of something that never fails but for its length.
pub(crate) fn der(message: &impl Encode) -> Result<zeroize::Zeroizing<Vec<u8>>, KerberosError> {
    Ok(zeroize::Zeroizing::new(message.to_der()?))
}
