//! The few types of ASN.1 that are Kerberos' own (RFC 4120 §5.2).

use der::asn1::{AnyRef, BitString, GeneralStringRef, GeneralizedTime};
use der::{
    Decode, DecodeValue, Encode, EncodeValue, FixedTag, Header, Length, Reader, Tag, TagNumber, Writer,
};

use crate::KerberosError;

/// A name or a realm (`KerberosString`). ASCII by the standard, UTF-8 as it is used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Text(pub(crate) String);

impl FixedTag for Text {
    const TAG: Tag = Tag::GeneralString;
}

impl<'a> DecodeValue<'a> for Text {
    type Error = der::Error;

    fn decode_value<R: Reader<'a>>(reader: &mut R, header: Header) -> Result<Self, der::Error> {
        let bytes = GeneralStringRef::decode_value(reader, header)?.as_bytes();
        Ok(Self(str::from_utf8(bytes)?.to_owned()))
    }
}

impl EncodeValue for Text {
    fn value_len(&self) -> der::Result<Length> {
        self.0.len().try_into()
    }

    fn encode_value(&self, writer: &mut impl Writer) -> der::Result<()> {
        writer.write(self.0.as_bytes())
    }
}

/// A moment in seconds since 1970 (`KerberosTime`, which has no fractions).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Time(pub(crate) i64);

impl FixedTag for Time {
    const TAG: Tag = Tag::GeneralizedTime;
}

impl<'a> DecodeValue<'a> for Time {
    type Error = der::Error;

    fn decode_value<R: Reader<'a>>(reader: &mut R, header: Header) -> Result<Self, der::Error> {
        let since = GeneralizedTime::decode_value(reader, header)?.to_unix_duration();
        Ok(Self(i64::try_from(since.as_secs()).unwrap_or(i64::MAX)))
    }
}

impl Time {
    fn general(self) -> der::Result<GeneralizedTime> {
        let since = std::time::Duration::from_secs(u64::try_from(self.0).unwrap_or(0));
        GeneralizedTime::from_unix_duration(since)
    }
}

impl EncodeValue for Time {
    fn value_len(&self) -> der::Result<Length> {
        self.general()?.value_len()
    }

    fn encode_value(&self, writer: &mut impl Writer) -> der::Result<()> {
        self.general()?.encode_value(writer)
    }
}

/// 32 flags, the first of which is the highest bit (`KerberosFlags`).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Flags(pub(crate) u32);

impl FixedTag for Flags {
    const TAG: Tag = Tag::BitString;
}

impl<'a> DecodeValue<'a> for Flags {
    type Error = der::Error;

    fn decode_value<R: Reader<'a>>(reader: &mut R, header: Header) -> Result<Self, der::Error> {
        let bits = BitString::decode_value(reader, header)?;
        let mut four = [0; 4];
        // Fewer and more than 32 were seen; what nobody knows says nothing.
        four.iter_mut().zip(bits.raw_bytes()).for_each(|(to, from)| *to = *from);
        Ok(Self(u32::from_be_bytes(four)))
    }
}

impl EncodeValue for Flags {
    fn value_len(&self) -> der::Result<Length> {
        BitString::from_bytes(&self.0.to_be_bytes())?.value_len()
    }

    fn encode_value(&self, writer: &mut impl Writer) -> der::Result<()> {
        BitString::from_bytes(&self.0.to_be_bytes())?.encode_value(writer)
    }
}

fn tag(number: u32) -> Tag {
    Tag::Application { constructed: true, number: TagNumber(number) }
}

/// A message within its application tag, which tells its kind.
pub(crate) fn enclose(number: u32, message: &impl Encode) -> Result<Vec<u8>, KerberosError> {
    let inner = zeroize::Zeroizing::new(message.to_der()?);
    Ok(AnyRef::new(tag(number), &inner)?.to_der()?)
}

/// Whether these bytes begin like a message of this kind.
pub(crate) fn is_kind(number: u32, bytes: &[u8]) -> bool {
    AnyRef::from_der(bytes).is_ok_and(|any| der::Tagged::tag(&any) == tag(number))
}

/// The message in an application tag.
///
/// # Errors
/// It is of another kind, or not in DER.
pub(crate) fn open<T: for<'a> Decode<'a, Error = der::Error>>(
    number: u32,
    bytes: &[u8],
) -> Result<T, KerberosError> {
    let any = AnyRef::from_der(bytes)?;
    if der::Tagged::tag(&any) != tag(number) {
        return Err(KerberosError::Damaged("a message of another kind than was asked for"));
    }
    Ok(T::from_der(any.value())?)
}
