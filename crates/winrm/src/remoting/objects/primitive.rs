//! Values without parts (MS-PSRP 2.2.5.1).

use base64ct::{Base64, Encoding};

use super::escape::{escape, unescape};

/// A value without parts. What has no exact form here is kept as it is written.
#[derive(Debug, Clone, PartialEq)]
pub enum Primitive {
    /// Text.
    String(String),
    /// A unit of UTF-16.
    Char(u16),
    /// Yes or no.
    Bool(bool),
    /// A moment, as XML Schema writes it.
    DateTime(String),
    /// A length of time, as XML Schema writes it.
    Duration(String),
    /// Eight bits without a sign.
    U8(u8),
    /// With one.
    I8(i8),
    /// Sixteen bits without a sign.
    U16(u16),
    /// With one.
    I16(i16),
    /// Thirty-two bits without a sign.
    U32(u32),
    /// With one.
    I32(i32),
    /// Sixty-four bits without a sign.
    U64(u64),
    /// With one.
    I64(i64),
    /// A number with a fraction, of 32 bits.
    Single(f32),
    /// A number with a fraction, of 64 bits.
    Double(f64),
    /// A number in decimal digits.
    Decimal(String),
    /// Bytes.
    Bytes(Vec<u8>),
    /// An identifier.
    Guid(String),
    /// A place.
    Uri(String),
    /// A version.
    Version(String),
    /// A document of XML.
    Xml(String),
    /// A piece of a script.
    Script(String),
    /// Text that only the key of the session opens.
    Secure(String),
}

impl Primitive {
    /// The name of its element.
    pub(super) fn tag(&self) -> &'static str {
        match self {
            Self::String(_) => "S",
            Self::Char(_) => "C",
            Self::Bool(_) => "B",
            Self::DateTime(_) => "DT",
            Self::Duration(_) => "TS",
            Self::U8(_) => "By",
            Self::I8(_) => "SB",
            Self::U16(_) => "U16",
            Self::I16(_) => "I16",
            Self::U32(_) => "U32",
            Self::I32(_) => "I32",
            Self::U64(_) => "U64",
            Self::I64(_) => "I64",
            Self::Single(_) => "Sg",
            Self::Double(_) => "Db",
            Self::Decimal(_) => "D",
            Self::Bytes(_) => "BA",
            Self::Guid(_) => "G",
            Self::Uri(_) => "URI",
            Self::Version(_) => "Version",
            Self::Xml(_) => "XD",
            Self::Script(_) => "SBK",
            Self::Secure(_) => "SS",
        }
    }

    /// What stands in its element, before XML's own escapes.
    pub(super) fn written(&self) -> String {
        match self {
            Self::String(text) | Self::Uri(text) | Self::Xml(text) | Self::Script(text) => {
                escape(text).into_owned()
            }
            Self::DateTime(text)
            | Self::Duration(text)
            | Self::Decimal(text)
            | Self::Guid(text)
            | Self::Version(text)
            | Self::Secure(text) => escape(text).into_owned(),
            Self::Char(number) | Self::U16(number) => number.to_string(),
            Self::Bool(is) => is.to_string(),
            Self::U8(number) => number.to_string(),
            Self::I8(number) => number.to_string(),
            Self::I16(number) => number.to_string(),
            Self::U32(number) => number.to_string(),
            Self::I32(number) => number.to_string(),
            Self::U64(number) => number.to_string(),
            Self::I64(number) => number.to_string(),
            Self::Single(number) => float((*number).into(), number.to_string()),
            Self::Double(number) => float(*number, number.to_string()),
            Self::Bytes(bytes) => Base64::encode_string(bytes),
        }
    }

    /// Reads what stands in an element of this name; nothing, where there is no such element, or where that cannot stand in it.
    pub(super) fn read(tag: &str, text: &str) -> Option<Self> {
        let plain = || unescape(text).into_owned();
        let number = text.trim();
        Some(match tag {
            "S" => Self::String(plain()),
            "URI" => Self::Uri(plain()),
            "XD" => Self::Xml(plain()),
            "SBK" => Self::Script(plain()),
            "DT" => Self::DateTime(plain()),
            "TS" => Self::Duration(plain()),
            "D" => Self::Decimal(plain()),
            "G" => Self::Guid(plain()),
            "Version" => Self::Version(plain()),
            "SS" => Self::Secure(plain()),
            "C" => Self::Char(number.parse().ok()?),
            "B" => Self::Bool(match number {
                "true" | "1" => true,
                "false" | "0" => false,
                _ => return None,
            }),
            "By" => Self::U8(number.parse().ok()?),
            "SB" => Self::I8(number.parse().ok()?),
            "U16" => Self::U16(number.parse().ok()?),
            "I16" => Self::I16(number.parse().ok()?),
            "U32" => Self::U32(number.parse().ok()?),
            "I32" => Self::I32(number.parse().ok()?),
            "U64" => Self::U64(number.parse().ok()?),
            "I64" => Self::I64(number.parse().ok()?),
            "Sg" => Self::Single(special(number).map_or_else(|| number.parse().ok(), |it| Some(it as f32))?),
            "Db" => Self::Double(special(number).or_else(|| number.parse().ok())?),
            "BA" => {
                let folded: String = text.split_ascii_whitespace().collect();
                Self::Bytes(Base64::decode_vec(&folded).ok()?)
            }
            _ => return None,
        })
    }

    /// Whether there is an element of this name.
    pub(super) fn is_tag(tag: &str) -> bool {
        const TAGS: [&str; 23] = [
            "S", "C", "B", "DT", "TS", "By", "SB", "U16", "I16", "U32", "I32", "U64", "I64", "Sg", "Db", "D",
            "BA", "G", "URI", "Version", "XD", "SBK", "SS",
        ];
        TAGS.contains(&tag)
    }
}

/// Numbers that have no digits are written in XML Schema's way.
fn float(number: f64, digits: String) -> String {
    match number {
        _ if number.is_nan() => "NaN".to_owned(),
        f64::INFINITY => "INF".to_owned(),
        f64::NEG_INFINITY => "-INF".to_owned(),
        _ => digits,
    }
}

fn special(text: &str) -> Option<f64> {
    match text {
        "NaN" => Some(f64::NAN),
        "INF" | "Infinity" => Some(f64::INFINITY),
        "-INF" | "-Infinity" => Some(f64::NEG_INFINITY),
        _ => None,
    }
}
