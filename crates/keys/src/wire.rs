//! The data types of RFC 4251 §5: one bounded reader and one writer, for key blobs and protocol messages alike.

/// Why bytes could not be read as the data type expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WireError {
    /// The bytes end before the field does.
    #[error("{field}: {needed} bytes needed, {left} left")]
    Truncated {
        /// Which field was being read.
        field: &'static str,
        /// How many bytes the field takes.
        needed: usize,
        /// How many there were.
        left: usize,
    },
    /// Bytes are left over after the last field.
    #[error("{0} bytes left over after the last field")]
    LeftOver(usize),
    /// A field's content breaks the rules of its type.
    #[error("{field}: {rule}")]
    Invalid {
        /// Which field.
        field: &'static str,
        /// The rule that it breaks.
        rule: &'static str,
    },
}

/// A cursor over untrusted bytes. Every length is checked against what is there before anything is taken.
#[derive(Debug, Clone)]
pub struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    /// Starts at the beginning of `bytes`.
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// What has not been read yet.
    pub fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// Takes `len` raw bytes.
    pub fn take(&mut self, len: usize, field: &'static str) -> Result<&'a [u8], WireError> {
        match self.rest.split_at_checked(len) {
            Some((head, tail)) => {
                self.rest = tail;
                Ok(head)
            }
            None => Err(WireError::Truncated { field, needed: len, left: self.rest.len() }),
        }
    }

    fn array<const N: usize>(&mut self, field: &'static str) -> Result<[u8; N], WireError> {
        match self.rest.split_first_chunk::<N>() {
            Some((head, tail)) => {
                self.rest = tail;
                Ok(*head)
            }
            None => Err(WireError::Truncated { field, needed: N, left: self.rest.len() }),
        }
    }

    /// `byte`.
    pub fn u8(&mut self, field: &'static str) -> Result<u8, WireError> {
        Ok(u8::from_be_bytes(self.array(field)?))
    }

    /// `uint32`.
    pub fn u32(&mut self, field: &'static str) -> Result<u32, WireError> {
        Ok(u32::from_be_bytes(self.array(field)?))
    }

    /// `uint64`.
    pub fn u64(&mut self, field: &'static str) -> Result<u64, WireError> {
        Ok(u64::from_be_bytes(self.array(field)?))
    }

    /// `boolean`: any non-zero value is true.
    pub fn bool(&mut self, field: &'static str) -> Result<bool, WireError> {
        Ok(self.u8(field)? != 0)
    }

    /// `string`: a length and that many bytes.
    pub fn string(&mut self, field: &'static str) -> Result<&'a [u8], WireError> {
        let len = self.u32(field)? as usize;
        self.take(len, field)
    }

    /// `string` that must be UTF-8 text.
    pub fn text(&mut self, field: &'static str) -> Result<&'a str, WireError> {
        std::str::from_utf8(self.string(field)?)
            .map_err(|_| WireError::Invalid { field, rule: "must be UTF-8 text" })
    }

    /// `name-list` of at most `max_len` bytes. Names must be printable US-ASCII (RFC 4251 §6).
    pub fn name_list(&mut self, max_len: usize, field: &'static str) -> Result<Vec<&'a str>, WireError> {
        let text = self.text(field)?;
        if text.len() > max_len {
            return Err(WireError::Invalid { field, rule: "name-list longer than our limit" });
        }
        if !text.bytes().all(|byte| byte.is_ascii_graphic()) {
            return Err(WireError::Invalid { field, rule: "names must be printable US-ASCII" });
        }
        Ok(if text.is_empty() { Vec::new() } else { text.split(',').collect() })
    }

    /// `mpint` that must not be negative, as big-endian bytes with no leading zero.
    pub fn mpint(&mut self, field: &'static str) -> Result<&'a [u8], WireError> {
        let bytes = self.string(field)?;
        match bytes {
            [] => Ok(bytes),
            [0, rest @ ..] => match rest.first() {
                Some(next) if next & 0x80 != 0 => Ok(rest),
                _ => Err(WireError::Invalid { field, rule: "needless leading zero in an mpint" }),
            },
            [first, ..] if first & 0x80 != 0 => {
                Err(WireError::Invalid { field, rule: "must not be negative" })
            }
            _ => Ok(bytes),
        }
    }

    /// Checks that nothing is left over.
    pub fn finish(self) -> Result<(), WireError> {
        if self.rest.is_empty() { Ok(()) } else { Err(WireError::LeftOver(self.rest.len())) }
    }
}

/// Writes the data types of RFC 4251 §5 onto the end of any growing buffer.
pub trait Writer {
    /// Appends raw bytes.
    fn put(&mut self, bytes: &[u8]);

    /// `byte`.
    fn put_byte(&mut self, value: u8) {
        self.put(&[value]);
    }

    /// `uint32`.
    fn put_uint32(&mut self, value: u32) {
        self.put(&value.to_be_bytes());
    }

    /// `boolean`.
    fn put_bool(&mut self, value: bool) {
        self.put(&[u8::from(value)]);
    }

    /// `string`. Our own fields are far below 4 GiB; a longer one would be cut by the length type, so it is
    /// clamped together with its length and stays well-formed.
    fn put_string(&mut self, bytes: &[u8]) {
        let len = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
        self.put_uint32(len);
        self.put(&bytes[..len as usize]);
    }

    /// `name-list`.
    fn put_name_list<S: AsRef<str>>(&mut self, names: &[S]) {
        let joined = names.iter().map(AsRef::as_ref).collect::<Vec<_>>().join(",");
        self.put_string(joined.as_bytes());
    }

    /// `mpint` from big-endian bytes of a non-negative number, leading zeros allowed.
    fn put_mpint(&mut self, bytes: &[u8]) {
        let bytes = trim_leading_zeros(bytes);
        let sign_byte = bytes.first().is_some_and(|first| first & 0x80 != 0);
        self.put_uint32(u32::try_from(bytes.len() + usize::from(sign_byte)).unwrap_or(u32::MAX));
        if sign_byte {
            self.put(&[0]);
        }
        self.put(bytes);
    }
}

impl Writer for Vec<u8> {
    fn put(&mut self, bytes: &[u8]) {
        self.extend_from_slice(bytes);
    }
}

/// The number without its leading zero bytes.
pub fn trim_leading_zeros(bytes: &[u8]) -> &[u8] {
    let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
    &bytes[zeros..]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The examples of RFC 4251 §5.
    #[test]
    fn mpints_match_the_examples_of_rfc_4251() {
        let cases: [(&[u8], &[u8]); 3] = [
            (&[], &[0, 0, 0, 0]),
            (
                &[0x09, 0xa3, 0x78, 0xf9, 0xb2, 0xe3, 0x32, 0xa7],
                &[0, 0, 0, 8, 0x09, 0xa3, 0x78, 0xf9, 0xb2, 0xe3, 0x32, 0xa7],
            ),
            (&[0x80], &[0, 0, 0, 2, 0, 0x80]),
        ];
        for (number, encoded) in cases {
            let mut out = Vec::new();
            out.put_mpint(number);
            assert_eq!(out, encoded);
            assert_eq!(Reader::new(encoded).mpint("example"), Ok(number));
        }
        let negative = [0, 0, 0, 2, 0xed, 0xcc];
        assert!(Reader::new(&negative).mpint("example").is_err());
        let padded = [0, 0, 0, 2, 0, 1];
        assert!(Reader::new(&padded).mpint("example").is_err());
    }

    #[test]
    fn a_length_beyond_the_buffer_is_refused_before_anything_is_taken() {
        let mut reader = Reader::new(&[0xff, 0xff, 0xff, 0xff, 1]);
        assert_eq!(
            reader.string("blob"),
            Err(WireError::Truncated { field: "blob", needed: 0xffff_ffff, left: 1 })
        );
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(number in any::<u32>(), bytes: Vec<u8>, flag: bool, names in proptest::collection::vec("[a-z0-9@.-]{1,12}", 0..6)) {
            let mut out = Vec::new();
            out.put_uint32(number);
            out.put_string(&bytes);
            out.put_bool(flag);
            out.put_name_list(&names);
            out.put_mpint(&bytes);
            let mut reader = Reader::new(&out);
            prop_assert_eq!(reader.u32("n"), Ok(number));
            prop_assert_eq!(reader.string("s"), Ok(&bytes[..]));
            prop_assert_eq!(reader.bool("b"), Ok(flag));
            prop_assert_eq!(reader.name_list(1024, "l").unwrap(), names);
            prop_assert_eq!(reader.mpint("m"), Ok(trim_leading_zeros(&bytes)));
            prop_assert_eq!(reader.finish(), Ok(()));
        }
    }
}
