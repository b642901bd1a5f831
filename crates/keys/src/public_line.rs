//! The one-line form of a public key: options perhaps, its type, the blob in base64, and a comment.

use base64ct::{Base64, Encoding};

use crate::{KeyError, PublicKey};

/// Longest line that we read, in bytes: a 16384-bit RSA key takes about 2.8 KB, options and a comment rarely 1 KB.
pub const MAX_LINE_LEN: usize = 16 * 1024;

/// A line of a list of keys that may log in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicLine {
    /// What stands before the key, as it was written; empty when nothing does.
    pub options: String,
    /// The key.
    pub key: PublicKey,
    /// What stands after it.
    pub comment: String,
}

/// The places of the parts of a line.
pub(crate) struct Parts<'a> {
    pub(crate) options: &'a str,
    pub(crate) key_type: &'a str,
    pub(crate) blob: Vec<u8>,
    pub(crate) comment: &'a str,
}

/// Writes `type base64 comment`, without a line end.
pub fn format(key: &PublicKey, comment: &str) -> String {
    let base64 = Base64::encode_string(&key.encode());
    let comment = comment.replace(['\n', '\r'], " ");
    let line = std::format!("{} {base64} {comment}", key.key_type());
    line.trim_end().to_owned()
}

/// Reads a line as [`format`] writes it; options before the key are read over.
///
/// # Errors
/// A line that is too long, lacks a part, or whose type and blob disagree.
pub fn parse(line: &str) -> Result<(PublicKey, String), KeyError> {
    parse_with_options(line).map(|line| (line.key, line.comment))
}

/// Reads a line with options before the key.
///
/// # Errors
/// As [`parse`].
pub fn parse_with_options(line: &str) -> Result<PublicLine, KeyError> {
    let parts = split(line)?;
    let key = PublicKey::decode(&parts.blob)?;
    Ok(PublicLine { options: parts.options.to_owned(), key, comment: parts.comment.to_owned() })
}

/// Finds the parts of a line: its blob begins with the very type that stands before it, so options cannot be taken
/// for it, whatever they hold.
pub(crate) fn split(line: &str) -> Result<Parts<'_>, KeyError> {
    if line.len() > MAX_LINE_LEN {
        return Err(KeyError::TooCostly {
            what: "bytes in one line",
            met: line.len() as u64,
            limit: MAX_LINE_LEN as u64,
        });
    }
    let line = line.trim();
    let (options, rest) = match key_at(line) {
        Some(_) => ("", line),
        None => split_options(line),
    };
    match key_at(rest) {
        Some((key_type, base64, comment)) => {
            let blob =
                Base64::decode_vec(base64).map_err(|_| KeyError::Malformed("the base64 part is broken"))?;
            if crate::wire::Reader::new(&blob).text("key type") != Ok(key_type) {
                return Err(KeyError::Inconsistent("the line names another key type than its base64 holds"));
            }
            Ok(Parts { options, key_type, blob, comment })
        }
        None => Err(KeyError::Malformed("a public key line is a type, base64 and a comment")),
    }
}

/// Type, base64 and comment, when the line begins with a word and the base64 of a blob: a length below 256.
fn key_at(line: &str) -> Option<(&str, &str, &str)> {
    // Any number of blanks may stand between: servers take them, and columns are aligned by hand.
    let (key_type, rest) = line.split_once([' ', '\t'])?;
    let rest = rest.trim_start_matches([' ', '\t']);
    let (base64, comment) = rest.split_once([' ', '\t']).unwrap_or((rest, ""));
    let plain = |c: char| c.is_ascii_alphanumeric() || "-@._".contains(c);
    let is_key = key_type.chars().all(plain) && base64.starts_with("AAAA");
    is_key.then(|| (key_type, base64, comment.trim()))
}

/// Options end at the first white space outside of double quotes. A backslash right before a quote keeps it from being one, and means nothing
/// elsewhere: so servers read them.
fn split_options(line: &str) -> (&str, &str) {
    let mut quoted = false;
    let mut rest = line.char_indices().peekable();
    while let Some((at, c)) = rest.next() {
        match c {
            '\\' if rest.next_if(|(_, next)| *next == '"').is_some() => {}
            '"' => quoted = !quoted,
            ' ' | '\t' if !quoted => return (&line[..at], line[at..].trim_start()),
            _ => {}
        }
    }
    ("", line)
}
