//! The one-line form of a public key: its type, the blob in base64, and a comment.

use base64ct::{Base64, Encoding};

use crate::{KeyError, PublicKey};

/// Longest line that we read, in bytes: an 8192-bit RSA key takes about 1.5 KB, a comment rarely 200 bytes.
pub const MAX_LINE_LEN: usize = 16 * 1024;

/// Writes `type base64 comment`, without a line end.
pub fn format(key: &PublicKey, comment: &str) -> String {
    let base64 = Base64::encode_string(&key.encode());
    let comment = comment.replace(['\n', '\r'], " ");
    let line = std::format!("{} {base64} {comment}", key.key_type());
    line.trim_end().to_owned()
}

/// Reads a line as [`format`] writes it.
///
/// # Errors
/// A line that is too long, lacks a part, or whose type and blob disagree.
pub fn parse(line: &str) -> Result<(PublicKey, String), KeyError> {
    if line.len() > MAX_LINE_LEN {
        return Err(KeyError::TooCostly {
            what: "bytes in one line",
            met: line.len() as u64,
            limit: MAX_LINE_LEN as u64,
        });
    }
    let mut parts = line.trim().splitn(3, [' ', '\t']);
    let (Some(key_type), Some(base64)) = (parts.next(), parts.next()) else {
        return Err(KeyError::Malformed("a public key line is a type, base64 and a comment"));
    };
    let blob = Base64::decode_vec(base64).map_err(|_| KeyError::Malformed("the base64 part is broken"))?;
    let key = PublicKey::decode(&blob)?;
    if key.key_type() != key_type {
        return Err(KeyError::Inconsistent("the line names another key type than its base64 holds"));
    }
    Ok((key, parts.next().unwrap_or_default().trim().to_owned()))
}
