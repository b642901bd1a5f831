//! The public key file format of RFC 4716: base64 of the blob, headers such as a comment, lines of at most 72 bytes.

use base64ct::{Base64, Encoding};

use super::pem::{Block, push_lines};
use crate::{KeyError, PublicKey};

/// The label between the dashes.
pub(crate) const LABEL: &str = super::armour_body::RFC4716_LABEL;
/// Longest line, in bytes (RFC 4716 §3).
const WIDTH: usize = 72;

/// Key and comment of a block; other headers are read over (RFC 4716 §3.3.3).
pub(crate) fn decode(block: &Block<'_>) -> Result<(PublicKey, String), KeyError> {
    let blob = block.bytes.as_ref().map_err(Clone::clone)?;
    let key = PublicKey::decode(blob)?;
    Ok((key, comment(block).to_owned()))
}

/// The comment of a block; empty without one.
pub(crate) fn comment<'a>(block: &'a Block<'_>) -> &'a str {
    let comment = block.header("Comment").unwrap_or_default();
    // RFC 4716 §3.3.2: quotes around the value are no part of it.
    comment.strip_prefix('"').and_then(|inner| inner.strip_suffix('"')).unwrap_or(comment)
}

/// Writes key and comment; long comments are continued with backslashes.
pub(crate) fn format(key: &PublicKey, comment: &str) -> String {
    let mut out = String::from("---- BEGIN SSH2 PUBLIC KEY ----\n");
    if !comment.is_empty() {
        let header = std::format!("Comment: \"{}\"", comment.replace(['\n', '\r'], " "));
        let mut line = String::new();
        for c in header.chars() {
            // Room for the backslash must stay.
            if line.len() + c.len_utf8() > WIDTH - 1 {
                out.push_str(&line);
                out.push_str("\\\n");
                line.clear();
            }
            line.push(c);
        }
        out.push_str(&line);
        out.push('\n');
    }
    push_lines(&mut out, &Base64::encode_string(&key.encode()), 70);
    out.push_str("---- END SSH2 PUBLIC KEY ----\n");
    out
}
