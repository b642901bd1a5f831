//! Armour: base64 between `-----BEGIN` and `-----END` lines, as lax as RFC 7468 §3 lets a reader be.

use base64ct::{Base64, Encoding};
use zeroize::Zeroizing;

use crate::KeyError;

/// The bytes of the first block with this label. Text around it, CRLF and any line width are fine.
pub(super) fn decode(text: &str, label: &str) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let begin = format!("-----BEGIN {label}-----");
    let end = format!("-----END {label}-----");
    let (_, rest) = text.split_once(&begin).ok_or(KeyError::NotAKey("no block of a kind that we read"))?;
    let (body, _) = rest.split_once(&end).ok_or(KeyError::Malformed("the END line is missing"))?;
    let base64 = Zeroizing::new(body.chars().filter(|c| !c.is_ascii_whitespace()).collect::<String>());
    Base64::decode_vec(&base64)
        .map(Zeroizing::new)
        .map_err(|_| KeyError::Malformed("the base64 text is broken"))
}

/// The armoured form, 70 characters a line.
pub(super) fn encode(bytes: &[u8], label: &str) -> Zeroizing<String> {
    let base64 = Zeroizing::new(Base64::encode_string(bytes));
    let mut out = Zeroizing::new(String::with_capacity(base64.len() + base64.len() / 70 + 128));
    out.push_str(&format!("-----BEGIN {label}-----\n"));
    let mut rest = base64.as_str();
    while !rest.is_empty() {
        let (line, tail) = rest.split_at(rest.len().min(70));
        out.push_str(line);
        out.push('\n');
        rest = tail;
    }
    out.push_str(&format!("-----END {label}-----\n"));
    out
}
