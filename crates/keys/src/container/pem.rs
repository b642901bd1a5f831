//! Armour: base64 between boundaries, as lax as RFC 7468 §3 lets a reader be, since keys arrive in mails and consoles.

use base64ct::{Base64, Encoding};
use zeroize::Zeroizing;

use super::armour_body;
use super::boundary::{Boundary, boundaries};
use crate::KeyError;

/// Most blocks that we look at in one file: a bundle of certificates has a few hundred.
const MAX_BLOCKS: usize = 1024;

/// One block.
pub(crate) struct Block<'a> {
    /// What stands between BEGIN and the dashes.
    pub(crate) label: &'a str,
    /// `Name: value` before the base64.
    pub(crate) headers: Vec<(String, String)>,
    /// The decoded content.
    pub(crate) bytes: Result<Zeroizing<Vec<u8>>, KeyError>,
}

/// A part of a text.
pub(crate) enum Part<'a> {
    /// A block.
    Block(Block<'a>),
    /// What stands before, between or behind blocks.
    Beside(&'a str),
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

/// A text in its parts, in order. A boundary without its other half within a line is a word of the text.
pub(crate) fn parts(text: &str) -> Vec<Part<'_>> {
    let boundaries = boundaries(text);
    let mut parts = Vec::new();
    let mut blocks = 0;
    let (mut beside_from, mut rest) = (0, boundaries.as_slice());
    while let [first, tail @ ..] = rest {
        rest = tail;
        let (body_end, end, broken) = match (first.is_begin, tail) {
            (true, [last, behind @ ..]) if !last.is_begin => {
                rest = behind;
                let broken = (last.label != first.label).then_some("its END line is that of another kind");
                (last.start, last.end, broken)
            }
            (true, _) if starts_line(text, first) => {
                let end = tail.first().map_or(text.len(), |next| next.start);
                (end, end, Some("the END line is missing"))
            }
            (false, _) if starts_line(text, first) => {
                (first.end, first.end, Some("the BEGIN line is missing"))
            }
            _ => continue,
        };
        if blocks == MAX_BLOCKS {
            break;
        }
        blocks += 1;
        parts.extend(text.get(beside_from..first.start).map(Part::Beside));
        beside_from = end;
        let body = armour_body::read(text.get(first.end..body_end).unwrap_or_default(), first.label);
        let bytes = match broken {
            Some(what) => Err(KeyError::Malformed(what)),
            None => body.bytes,
        };
        parts.push(Part::Block(Block { label: first.label, headers: body.headers, bytes }));
    }
    parts.extend(text.get(beside_from..).map(Part::Beside));
    parts
}

/// Whether nothing but blanks and signs of quotation stand before a boundary on its line.
fn starts_line(text: &str, boundary: &Boundary<'_>) -> bool {
    let before = text.get(..boundary.start).unwrap_or_default();
    let line = before.rsplit(['\n', '\r']).next().unwrap_or_default();
    line.chars().all(|c| c == '>' || c == '|' || c.is_whitespace())
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
