//! Armour: base64 between BEGIN and END lines, as lax as RFC 7468 §3 lets a reader be. Text around the blocks, byte
//! order marks, CRLF, indentation and any line width are fine, since that is how keys arrive in mails and consoles.

use base64ct::{Base64, Encoding};
use zeroize::Zeroizing;

use crate::KeyError;

/// Most blocks that we look at in one file: a bundle of certificates has a few hundred.
const MAX_BLOCKS: usize = 1024;

/// One block.
pub(crate) struct Block<'a> {
    /// What stands between BEGIN and the dashes.
    pub(crate) label: &'a str,
    /// `Name: value` lines before the base64, continuation joined: RFC 1421 §4.6 and RFC 4716 §3.3 have them.
    pub(crate) headers: Vec<(String, String)>,
    /// The decoded content.
    pub(crate) bytes: Result<Zeroizing<Vec<u8>>, KeyError>,
}

impl Block<'_> {
    /// The value of a header; names have no case (RFC 4716 §3.3).
    pub(crate) fn header(&self, name: &str) -> Option<&str> {
        self.headers
            .iter()
            .find(|(known, _)| known.eq_ignore_ascii_case(name))
            .map(|(_, value)| value.as_str())
    }
}

/// The label of a boundary line: `-----BEGIN X-----`, or `---- BEGIN X ----` as RFC 4716 has it.
fn boundary<'a>(line: &'a str, word: &str) -> Option<&'a str> {
    let inner = line.trim().strip_prefix("----")?.strip_suffix("----")?;
    let inner = inner.trim_matches('-').trim();
    inner.strip_prefix(word)?.strip_prefix(' ').map(str::trim)
}

/// Every block of a text, in order.
pub(crate) fn blocks(text: &str) -> Vec<Block<'_>> {
    let mut found = Vec::new();
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        let Some(label) = boundary(line, "BEGIN") else { continue };
        let mut body = Vec::new();
        let mut ended = false;
        for line in lines.by_ref() {
            if boundary(line, "END").is_some() {
                ended = true;
                break;
            }
            body.push(line);
        }
        let (headers, base64) = split_headers(&body);
        let bytes = match ended {
            true => decode(base64),
            false => Err(KeyError::Malformed("the END line is missing")),
        };
        found.push(Block { label, headers, bytes });
        if found.len() == MAX_BLOCKS {
            break;
        }
    }
    found
}

/// Headers end with the first line that is no header; a backslash at the end continues one (RFC 4716 §3.3), and so
/// does a folded line after a comma (RFC 1421), which then is no base64 either.
fn split_headers<'a>(body: &'a [&'a str]) -> (Vec<(String, String)>, &'a [&'a str]) {
    let mut headers = Vec::new();
    let mut rest = body;
    while let [line, tail @ ..] = rest {
        let Some((name, value)) = line.split_once(':') else { break };
        // Not trimmed behind: a continued value may end in white space before its backslash.
        let mut value = value.trim_start().to_owned();
        rest = tail;
        while let (Some(open), [next, tail @ ..]) = (value.strip_suffix('\\'), rest) {
            value = format!("{open}{next}");
            rest = tail;
        }
        headers.push((name.trim().to_owned(), value.trim_end().to_owned()));
    }
    (headers, rest)
}

fn decode(lines: &[&str]) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let len = lines.iter().map(|line| line.len()).sum();
    let mut base64 = Zeroizing::new(String::with_capacity(len));
    lines.iter().flat_map(|line| line.chars()).filter(|c| !c.is_whitespace()).for_each(|c| base64.push(c));
    Base64::decode_vec(&base64)
        .map(Zeroizing::new)
        .map_err(|_| KeyError::Malformed("the base64 text is broken"))
}

/// The armoured form with lines of `width` characters.
pub(crate) fn encode(bytes: &[u8], label: &str, width: usize) -> Zeroizing<String> {
    let base64 = Zeroizing::new(Base64::encode_string(bytes));
    let mut out = Zeroizing::new(String::with_capacity(base64.len() + base64.len() / width + 128));
    out.push_str(&format!("-----BEGIN {label}-----\n"));
    push_lines(&mut out, &base64, width);
    out.push_str(&format!("-----END {label}-----\n"));
    out
}

/// Appends `text` in lines of `width` characters.
pub(crate) fn push_lines(out: &mut String, text: &str, width: usize) {
    let mut rest = text;
    while !rest.is_empty() {
        let (line, tail) = rest.split_at(rest.len().min(width));
        out.push_str(line);
        out.push('\n');
        rest = tail;
    }
}
