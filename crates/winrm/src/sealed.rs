//! Messages that a login's keys have sealed, for lines without TLS (MS-WSMV 2.2.9.1): a multipart body of two parts, of which the second is binary.
//!
//! It is cut by its lengths. The boundary is never looked for: it can stand in what is encrypted.

use crate::WinrmError;
use crate::limits::{MAX_MESSAGE, MAX_SIGNATURE};

/// Which kind of login sealed it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SealedBy {
    /// SPNEGO, whatever it chose.
    Negotiate,
    /// Kerberos by itself.
    Kerberos,
}

impl SealedBy {
    fn protocol(self) -> &'static str {
        match self {
            Self::Negotiate => "application/HTTP-SPNEGO-session-encrypted",
            Self::Kerberos => "application/HTTP-Kerberos-session-encrypted",
        }
    }

    /// The header `Content-Type` of such a body.
    pub fn content_type(self) -> String {
        format!("multipart/encrypted;protocol=\"{}\";boundary=\"{BOUNDARY}\"", self.protocol())
    }

    /// The same by the header of a body, where it is one of these forms: with its boundary.
    pub fn parse(content_type: &str) -> Option<(Self, &str)> {
        let mut parts = content_type.split(';').map(str::trim);
        if !parts.next()?.eq_ignore_ascii_case("multipart/encrypted") {
            return None;
        }
        let (mut by, mut boundary) = (None, None);
        for part in parts {
            let (name, value) = part.split_once('=')?;
            let value = value.trim().trim_matches('"');
            match name.trim().to_ascii_lowercase().as_str() {
                "protocol" => {
                    by = [Self::Negotiate, Self::Kerberos]
                        .into_iter()
                        .find(|by| by.protocol().eq_ignore_ascii_case(value))
                }
                "boundary" => boundary = Some(value),
                _ => {}
            }
        }
        Some((by?, boundary.filter(|boundary| !boundary.is_empty() && boundary.len() <= 70)?))
    }
}

const BOUNDARY: &str = "Encrypted Boundary";
/// The type of the message before it was sealed.
const ORIGINAL: &str = "application/soap+xml;charset=UTF-8";

/// A sealed message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sealed {
    /// What the login's keys signed it with.
    pub signature: Vec<u8>,
    /// The encrypted message.
    pub data: Vec<u8>,
    /// The length of the message before it was sealed, in bytes.
    pub plain_len: usize,
}

impl Sealed {
    /// The body of the post or of its answer.
    pub fn encode(&self, by: SealedBy) -> Vec<u8> {
        let head = format!(
            "--{BOUNDARY}\r\n\tContent-Type: {protocol}\r\n\tOriginalContent: type={ORIGINAL};Length={len}\r\n--{BOUNDARY}\r\n\
             \tContent-Type: application/octet-stream\r\n",
            protocol = by.protocol(),
            len = self.plain_len,
        );
        let mut out = head.into_bytes();
        out.extend(u32::try_from(self.signature.len()).unwrap_or(u32::MAX).to_le_bytes());
        out.extend(&self.signature);
        out.extend(&self.data);
        out.extend(format!("--{BOUNDARY}--\r\n").bytes());
        out
    }

    /// Takes a body apart that this kind of login sealed. `boundary` is what its type says.
    ///
    /// # Errors
    /// It is not in this form, or its lengths disagree.
    pub fn decode(body: &[u8], by: SealedBy, boundary: &str) -> Result<Self, WinrmError> {
        let wrong = WinrmError::Sealed;
        let marker = format!("--{boundary}");
        let mut rest = body;
        line(&mut rest).filter(|line| *line == marker).ok_or(wrong("it does not begin with its boundary"))?;
        let (mut plain_len, mut is_ours) = (None, false);
        loop {
            let line = line(&mut rest).ok_or(wrong("its first part does not end"))?;
            if line == marker {
                break;
            }
            let (name, value) = line.split_once(':').ok_or(wrong("a line of its first part is no header"))?;
            match name.trim().to_ascii_lowercase().as_str() {
                "content-type" => is_ours = value.trim().eq_ignore_ascii_case(by.protocol()),
                "originalcontent" => plain_len = length(value),
                _ => {}
            }
        }
        if !is_ours {
            return Err(wrong("it was sealed by another kind of login"));
        }
        let plain_len = plain_len
            .filter(|len| *len <= 2 * MAX_MESSAGE)
            .ok_or(wrong("it says no length, or one that nobody reads"))?;
        let octets = line(&mut rest).and_then(|line| line.split_once(':'));
        let is_binary = octets.is_some_and(|(name, value)| {
            name.trim().eq_ignore_ascii_case("content-type")
                && value.trim().eq_ignore_ascii_case("application/octet-stream")
        });
        if !is_binary {
            return Err(wrong("its second part is not binary"));
        }
        let (length, rest) = rest.split_first_chunk::<4>().ok_or(wrong("it ends too early"))?;
        let signature_len = u32::from_le_bytes(*length) as usize;
        if signature_len > MAX_SIGNATURE || signature_len > rest.len() {
            return Err(wrong("its signature is longer than it"));
        }
        let (signature, rest) = rest.split_at(signature_len);
        let tail = format!("--{boundary}--\r\n");
        // Some leave the last line break out.
        let data =
            rest.strip_suffix(tail.as_bytes()).or_else(|| rest.strip_suffix(tail.trim_end().as_bytes()));
        let data = data.ok_or(wrong("it does not end with its boundary"))?;
        // NTLM and Kerberos with AES encrypt to the same length: padding is in the signature.
        if data.len() != plain_len {
            return Err(wrong("its lengths disagree"));
        }
        Ok(Self { signature: signature.to_vec(), data: data.to_vec(), plain_len })
    }
}

/// The next line of a head, without the white space before it.
fn line<'b>(rest: &mut &'b [u8]) -> Option<&'b str> {
    const LONGEST: usize = 512;
    let end = rest.iter().take(LONGEST).position(|byte| *byte == b'\n')?;
    let (line, behind) = (rest.get(..end)?, rest.get(end + 1..)?);
    *rest = behind;
    str::from_utf8(line).ok().map(str::trim)
}

fn length(value: &str) -> Option<usize> {
    let mut parts = value.split(';').filter_map(|part| part.trim().split_once('='));
    parts.find(|(name, _)| name.eq_ignore_ascii_case("length"))?.1.trim().parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(body: &[u8]) -> Result<Sealed, WinrmError> {
        Sealed::decode(body, SealedBy::Negotiate, BOUNDARY)
    }

    #[test]
    fn lengths_cut_it_even_where_the_boundary_stands_in_what_is_encrypted() {
        let data = b"--Encrypted Boundary--\r\n--Encrypted Boundary\r\n".to_vec();
        let sealed = Sealed { signature: vec![7; 16], plain_len: data.len(), data };
        assert_eq!(read(&sealed.encode(SealedBy::Negotiate)), Ok(sealed.clone()));
        assert!(read(&sealed.encode(SealedBy::Kerberos)).is_err());
    }

    #[test]
    fn lengths_that_disagree_are_refused() {
        let honest = Sealed { signature: vec![7; 16], data: vec![1; 40], plain_len: 40 };
        for lying in [
            Sealed { plain_len: 41, ..honest.clone() },
            Sealed { plain_len: 39, ..honest.clone() },
            Sealed { plain_len: usize::MAX, ..honest.clone() },
            Sealed { signature: vec![7; MAX_SIGNATURE + 1], ..honest.clone() },
        ] {
            assert!(read(&lying.encode(SealedBy::Negotiate)).is_err());
        }
        let mut body = honest.encode(SealedBy::Negotiate);
        let at = body.windows(4).position(|window| window == [16, 0, 0, 0]).unwrap();
        body[at..at + 4].copy_from_slice(&u32::MAX.to_le_bytes());
        assert!(read(&body).is_err());
    }

    #[test]
    fn the_type_of_a_body_says_who_sealed_it() {
        for by in [SealedBy::Negotiate, SealedBy::Kerberos] {
            assert_eq!(SealedBy::parse(&by.content_type()), Some((by, BOUNDARY)));
        }
        assert_eq!(SealedBy::parse("application/soap+xml;charset=UTF-8"), None);
        assert_eq!(SealedBy::parse("multipart/encrypted;protocol=\"x/y\";boundary=\"b\""), None);
    }

    proptest! {
        #[test]
        fn what_is_sealed_comes_back(signature in proptest::collection::vec(any::<u8>(), 0..80), data in proptest::collection::vec(any::<u8>(), 0..400)) {
            let sealed = Sealed { signature, plain_len: data.len(), data };
            prop_assert_eq!(read(&sealed.encode(SealedBy::Negotiate)), Ok(sealed));
        }

        #[test]
        fn nothing_makes_it_panic(
            body in proptest::collection::vec(any::<u8>(), 0..300),
            cut in 0usize..400,
            change in (0usize..400, any::<u8>()),
        ) {
            let _ = read(&body);
            let mut body = Sealed { signature: vec![1; 16], plain_len: 60, data: vec![2; 60] }.encode(SealedBy::Negotiate);
            let len = body.len();
            body[change.0 % len] = change.1;
            body.truncate(cut);
            let _ = read(&body);
        }
    }
}
