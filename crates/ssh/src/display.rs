//! The beginning of a conversation with a display (X Window System Protocol, "Connection Setup"), as far as it tells whose it is: a program that was
//! let in presents the cookie that it was given, and the display is shown its own in place of that.

use std::fmt;

use lantern_keys::RandomSource;
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// The protocol of cookies, by its name in the setup and in the request for forwarding.
pub const COOKIE_PROTOCOL: &str = "MIT-MAGIC-COOKIE-1";
/// Bytes in front of name and data.
const HEAD_LEN: usize = 12;
/// Longest name of a protocol, and longest data for it, in bytes: those in use have 18 and 16, or less than 200.
const MAX_PART: usize = 256;

/// A cookie: whoever presents it may draw.
#[derive(Clone)]
pub struct Cookie(Zeroizing<[u8; 16]>);

impl Cookie {
    /// One that nobody can guess.
    pub fn random(random: &mut dyn RandomSource) -> Self {
        let mut bytes = Zeroizing::new([0; 16]);
        random.fill(bytes.as_mut_slice());
        Self(bytes)
    }

    /// This one.
    pub fn new(bytes: [u8; 16]) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// Its bytes.
    pub fn expose(&self) -> &[u8; 16] {
        &self.0
    }

    /// The one that this is in hexadecimal.
    pub fn from_hex(text: &str) -> Option<Self> {
        let mut bytes = Zeroizing::new([0; 16]);
        if text.len() != 2 * bytes.len() || !text.is_ascii() {
            return None;
        }
        for (at, byte) in bytes.iter_mut().enumerate() {
            *byte = u8::from_str_radix(text.get(2 * at..2 * at + 2)?, 16).ok()?;
        }
        Some(Self(bytes))
    }

    /// In hexadecimal, as it is asked for (RFC 4254 §6.3.1).
    pub fn to_hex(&self) -> String {
        self.0.iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

impl fmt::Debug for Cookie {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Cookie(…)")
    }
}

impl PartialEq for Cookie {
    fn eq(&self, other: &Self) -> bool {
        self.0.ct_eq(other.0.as_slice()).into()
    }
}

impl Eq for Cookie {}

/// Why it is no beginning of such a conversation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SetupError {
    /// The first byte says neither order.
    #[error("it does not begin as a program for a display does")]
    NotForADisplay,
    /// A part is longer than any that is in use.
    #[error("its authorization is longer than any")]
    TooLong,
}

/// The beginning of a conversation.
#[derive(Clone, PartialEq, Eq)]
pub struct DisplaySetup {
    is_big_endian: bool,
    version: [u16; 2],
    protocol: Vec<u8>,
    data: Zeroizing<Vec<u8>>,
}

impl fmt::Debug for DisplaySetup {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let protocol = String::from_utf8_lossy(&self.protocol);
        f.debug_struct("DisplaySetup").field("version", &self.version).field("protocol", &protocol).finish()
    }
}

fn padded(len: usize) -> usize {
    len.next_multiple_of(4)
}

impl DisplaySetup {
    /// Reads it off the front of what a program sends, once it is all there.
    ///
    /// # Errors
    /// [`SetupError`].
    pub fn read(bytes: &[u8]) -> Result<Option<Self>, SetupError> {
        let is_big_endian = match bytes.first() {
            None => return Ok(None),
            Some(b'B') => true,
            Some(b'l') => false,
            Some(_) => return Err(SetupError::NotForADisplay),
        };
        let Some(head) = bytes.get(..HEAD_LEN) else { return Ok(None) };
        let number = |at: usize| {
            let pair = [head.get(at).copied().unwrap_or(0), head.get(at + 1).copied().unwrap_or(0)];
            if is_big_endian { u16::from_be_bytes(pair) } else { u16::from_le_bytes(pair) }
        };
        let (name_len, data_len) = (usize::from(number(6)), usize::from(number(8)));
        if name_len > MAX_PART || data_len > MAX_PART {
            return Err(SetupError::TooLong);
        }
        let data_at = HEAD_LEN + padded(name_len);
        if bytes.len() < data_at + padded(data_len) {
            return Ok(None);
        }
        let part = |at: usize, len: usize| bytes.get(at..at + len).unwrap_or_default().to_vec();
        Ok(Some(Self {
            is_big_endian,
            version: [number(2), number(4)],
            protocol: part(HEAD_LEN, name_len),
            data: Zeroizing::new(part(data_at, data_len)),
        }))
    }

    /// One of our own, to see whether a display takes this authorization.
    pub fn ours(protocol: &[u8], data: &[u8]) -> Self {
        Self {
            is_big_endian: false,
            version: [11, 0],
            protocol: protocol.to_vec(),
            data: Zeroizing::new(data.to_vec()),
        }
    }

    /// What a display says to a program that it does not take, in the program's order of bytes.
    pub fn refusal(&self, reason: &str) -> Vec<u8> {
        let number =
            |number: u16| if self.is_big_endian { number.to_be_bytes() } else { number.to_le_bytes() };
        let reason = reason.as_bytes().get(..reason.len().min(252)).unwrap_or_default();
        let mut out = vec![0, reason.len() as u8];
        self.version.iter().for_each(|part| out.extend(number(*part)));
        out.extend(number(padded(reason.len()) as u16 / 4));
        out.extend_from_slice(reason);
        out.resize(8 + padded(reason.len()), 0);
        out
    }

    /// How many bytes it takes.
    pub fn encoded_len(&self) -> usize {
        HEAD_LEN + padded(self.protocol.len()) + padded(self.data.len())
    }

    /// Whether it presents this cookie.
    pub fn presents(&self, cookie: &Cookie) -> bool {
        self.protocol == COOKIE_PROTOCOL.as_bytes() && bool::from(self.data.ct_eq(cookie.expose()))
    }

    /// The same with another authorization: what the display itself wants, and nothing where it wants nothing.
    pub fn with_authorization(&self, protocol: &[u8], data: &[u8]) -> Self {
        Self { protocol: protocol.to_vec(), data: Zeroizing::new(data.to_vec()), ..self.clone() }
    }

    /// As it is sent.
    pub fn encode(&self) -> Zeroizing<Vec<u8>> {
        let number =
            |number: u16| if self.is_big_endian { number.to_be_bytes() } else { number.to_le_bytes() };
        let len = |part: &[u8]| number(u16::try_from(part.len()).unwrap_or(u16::MAX));
        let mut out = Zeroizing::new(Vec::with_capacity(self.encoded_len()));
        out.extend([if self.is_big_endian { b'B' } else { b'l' }, 0]);
        self.version.iter().for_each(|part| out.extend(number(*part)));
        out.extend(len(&self.protocol));
        out.extend(len(&self.data));
        out.extend([0, 0]);
        for part in [&self.protocol, &*self.data] {
            out.extend_from_slice(part);
            let end = padded(out.len());
            out.resize(end, 0);
        }
        out
    }
}
