//! The frame around a token of GSS-API (RFC 2743 §3.1), and what stands in it for Kerberos (RFC 4121 §4.1).

use der::asn1::{AnyRef, ObjectIdentifier};
use der::{Decode, Encode, Reader, SliceReader, Tag, TagNumber};

use crate::KerberosError;

/// Kerberos as a mechanism of GSS-API (RFC 4121 §1).
pub const KERBEROS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113554.1.2.2");
/// The same as early versions of Windows wrote it, with a bit lost (MS-SPNG 1.9), in lists of mechanisms to this day.
pub(crate) const KERBEROS_OF_OLD: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.48018.1.2.2");

const FRAME: Tag = Tag::Application { constructed: true, number: TagNumber(0) };

/// What a token of Kerberos holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Token {
    /// A login.
    Request,
    /// The machine's proof.
    Reply,
    /// Its refusal.
    Error,
}

impl Token {
    fn id(self) -> [u8; 2] {
        match self {
            Self::Request => [1, 0],
            Self::Reply => [2, 0],
            Self::Error => [3, 0],
        }
    }
}

/// A frame around a mechanism's own bytes.
pub(crate) fn frame(mechanism: ObjectIdentifier, inner: &[u8]) -> Result<Vec<u8>, KerberosError> {
    let mut whole = mechanism.to_der()?;
    whole.extend_from_slice(inner);
    Ok(AnyRef::new(FRAME, &whole)?.to_der()?)
}

/// The mechanism in a frame, and its own bytes.
pub(crate) fn unframe(token: &[u8]) -> Result<(ObjectIdentifier, &[u8]), KerberosError> {
    let any = AnyRef::from_der(token)?;
    if der::Tagged::tag(&any) != FRAME {
        return Err(KerberosError::Damaged("a token without its frame"));
    }
    let mut reader = SliceReader::new(any.value())?;
    let mechanism = ObjectIdentifier::decode(&mut reader)?;
    let rest = reader.read_slice(reader.remaining_len())?;
    Ok((mechanism, rest))
}

/// A message of Kerberos in its frame.
pub(crate) fn enframe(token: Token, message: &[u8]) -> Result<Vec<u8>, KerberosError> {
    frame(KERBEROS, &[&token.id()[..], message].concat())
}

/// The message of Kerberos in a frame.
pub(crate) fn deframe(token: &[u8]) -> Result<(Token, &[u8]), KerberosError> {
    let (mechanism, rest) = unframe(token)?;
    if ![KERBEROS, KERBEROS_OF_OLD].contains(&mechanism) {
        return Err(KerberosError::Damaged("a token of another mechanism"));
    }
    let (id, message) =
        rest.split_first_chunk::<2>().ok_or(KerberosError::Damaged("a token without its kind"))?;
    let known = [Token::Request, Token::Reply, Token::Error].into_iter().find(|token| token.id() == *id);
    Ok((known.ok_or(KerberosError::Damaged("a token of no known kind"))?, message))
}
