//! The three messages on the wire (MS-NLMP 2.2.1): a head with lengths and offsets, and what they point to.

use zeroize::Zeroizing;

use super::NtlmError;
use super::flags::OUR_VERSION;

const SIGNATURE: &[u8; 8] = b"NTLMSSP\0";
/// Most bytes of a message: names, and what a machine says of itself.
const MAX_LEN: usize = 16 * 1024;
/// Where the integrity code of the third message stands.
pub(super) const MIC_AT: std::ops::Range<usize> = 72..88;

/// Whether these bytes are a message of NTLM: SPNEGO's begin otherwise.
pub fn is_ntlm(bytes: &[u8]) -> bool {
    bytes.starts_with(SIGNATURE)
}

/// UTF-16, little end first.
pub(super) fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// The same of a secret.
pub(super) fn utf16_secret(text: &str) -> Zeroizing<Vec<u8>> {
    // As large as it will be: a vector that grows leaves copies behind.
    let mut out = Zeroizing::new(Vec::with_capacity(text.len() * 2));
    out.extend(text.encode_utf16().flat_map(u16::to_le_bytes));
    out
}

/// A message that came.
pub(super) struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    pub(super) fn new(bytes: &'a [u8], kind: u32) -> Result<Self, NtlmError> {
        let reader = Self(bytes);
        if bytes.len() > MAX_LEN {
            return Err(NtlmError::Damaged("it is too long"));
        }
        if !is_ntlm(bytes) || reader.number(8)? != kind {
            return Err(NtlmError::Damaged("it is another message"));
        }
        Ok(reader)
    }

    pub(super) fn array<const N: usize>(&self, at: usize) -> Result<[u8; N], NtlmError> {
        let found = self.0.get(at..).and_then(|rest| rest.first_chunk::<N>());
        found.copied().ok_or(NtlmError::Damaged("it ends early"))
    }

    pub(super) fn number(&self, at: usize) -> Result<u32, NtlmError> {
        Ok(u32::from_le_bytes(self.array(at)?))
    }

    /// What the field at this place points to.
    pub(super) fn field(&self, at: usize) -> Result<&'a [u8], NtlmError> {
        let len = usize::from(u16::from_le_bytes(self.array(at)?));
        let offset = self.number(at + 4)? as usize;
        let found = offset.checked_add(len).and_then(|end| self.0.get(offset..end));
        match found {
            Some(found) => Ok(found),
            // Where there is nothing, some point anywhere.
            None if len == 0 => Ok(&[]),
            None => Err(NtlmError::Damaged("a field lies outside of it")),
        }
    }

    pub(super) fn text(&self, at: usize) -> Result<String, NtlmError> {
        let units = self.field(at)?.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair));
        char::decode_utf16(units)
            .collect::<Result<_, _>>()
            .map_err(|_| NtlmError::Damaged("a name is not UTF-16"))
    }
}

/// A message in the making: its head, of known length, and the rest behind it.
pub(super) struct Writer {
    head: Vec<u8>,
    head_len: usize,
    payload: Vec<u8>,
}

impl Writer {
    pub(super) fn new(kind: u32, head_len: usize) -> Self {
        let mut head = SIGNATURE.to_vec();
        head.extend(kind.to_le_bytes());
        Self { head, head_len, payload: Vec::new() }
    }

    pub(super) fn put(&mut self, bytes: &[u8]) -> &mut Self {
        self.head.extend(bytes);
        self
    }

    pub(super) fn number(&mut self, number: u32) -> &mut Self {
        self.put(&number.to_le_bytes())
    }

    pub(super) fn version(&mut self) -> &mut Self {
        self.put(&OUR_VERSION)
    }

    /// A field, with what it points to.
    pub(super) fn field(&mut self, content: &[u8]) -> Result<&mut Self, NtlmError> {
        let len = u16::try_from(content.len()).map_err(|_| NtlmError::TooLong)?.to_le_bytes();
        let offset = u32::try_from(self.head_len + self.payload.len()).map_err(|_| NtlmError::TooLong)?;
        self.payload.extend(content);
        Ok(self.put(&len).put(&len).number(offset))
    }

    pub(super) fn finish(self) -> Vec<u8> {
        debug_assert_eq!(self.head.len(), self.head_len);
        [self.head, self.payload].concat()
    }
}
