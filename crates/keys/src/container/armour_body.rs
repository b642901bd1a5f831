//! What stands between two boundaries: headers perhaps, and base64, in whatever lines the way here left of it.

use std::borrow::Cow;

use base64ct::{Base64, Encoding};
use zeroize::Zeroizing;

use crate::KeyError;

/// The label of the blocks of RFC 4716, whose headers have their own rules.
pub(super) const RFC4716_LABEL: &str = "SSH2 PUBLIC KEY";

/// Headers and content of a block.
pub(super) struct Body {
    /// `Name: value` in front of the base64, continuations joined (RFC 1421 §4.6, RFC 4716 §3.3).
    pub(super) headers: Vec<(String, String)>,
    /// The decoded content.
    pub(super) bytes: Result<Zeroizing<Vec<u8>>, KeyError>,
}

/// Reads the text between the boundaries of a block with this label. Line feeds, carriage returns and, where there is
/// neither, escaped ones and blanks are ends of lines; signs of quotation in front of a line are read over.
pub(super) fn read(text: &str, label: &str) -> Body {
    let one_line = !text.trim().contains(['\n', '\r']);
    let unescaped;
    let text = match one_line && text.contains('\\') {
        true => {
            unescaped = unescape(text);
            unescaped.as_str()
        }
        false => text,
    };
    let lines: Vec<&str> = text.split(['\n', '\r']).map(without_quotation).collect();
    let mut filled = lines.iter().filter(|line| !line.is_empty());
    match (filled.next(), filled.next()) {
        (Some(only), None) if only.contains(": ") => read_lines(&spread(only, label == RFC4716_LABEL)),
        _ => read_lines(&lines),
    }
}

/// A line without the signs that mails and documents put in front of it. Blanks alone stay: a continued value may begin
/// with one.
fn without_quotation(line: &str) -> &str {
    let inner = line.trim_start_matches(|c: char| c == '>' || c == '|' || c.is_whitespace());
    let before = line.get(..line.len() - inner.len()).unwrap_or_default();
    if before.contains(['>', '|']) { inner.trim_end() } else { line.trim_end() }
}

/// The escapes of JSON strings (RFC 8259 §7), which several languages and shells share.
fn unescape(text: &str) -> Zeroizing<String> {
    let mut out = Zeroizing::new(String::with_capacity(text.len()));
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('\\') {
        out.push_str(before);
        let mut chars = after.chars();
        match chars.next() {
            Some('n' | 'r') => out.push('\n'),
            Some('t') => out.push(' '),
            Some('u') => {
                let digits = chars.as_str().get(..4).and_then(|hex| u32::from_str_radix(hex, 16).ok());
                out.push(digits.and_then(char::from_u32).unwrap_or('\u{fffd}'));
                chars = chars.as_str().get(4..).unwrap_or_default().chars();
            }
            Some(c) => out.push(c),
            None => out.push('\\'),
        }
        rest = chars.as_str();
    }
    out.push_str(rest);
    out
}

/// One line with headers in it, parted where its lines ended once: a header's value is one word, but that of RFC 4716
/// lasts until the next header or the key, whose base64 always begins the same (the length of its type is below 256).
fn spread(line: &str, is_rfc4716: bool) -> Vec<&str> {
    let mut lines = Vec::new();
    let mut start = 0;
    let mut words_of_header = None;
    let mut at = 0;
    for word in line.split_whitespace() {
        // Words come in order, so each is looked for behind the one before.
        let Some(place) = line.get(at..).and_then(|rest| rest.find(word)).map(|place| at + place) else {
            break;
        };
        at = place + word.len();
        let starts_line = match words_of_header {
            _ if word.ends_with(':') => true,
            Some(_) if is_rfc4716 => word.starts_with("AAAA"),
            Some(words) => words > 1,
            None => false,
        };
        if starts_line && place > start {
            lines.extend(line.get(start..place).map(str::trim_end));
            start = place;
        }
        words_of_header = match words_of_header {
            _ if word.ends_with(':') => Some(1),
            Some(words) if !starts_line => Some(words + 1),
            _ => None,
        };
    }
    lines.extend(line.get(start..));
    lines
}

/// Headers end with the first line that is none; a backslash at the end continues one (RFC 4716 §3.3).
fn read_lines(lines: &[&str]) -> Body {
    let mut headers = Vec::new();
    let mut rest = lines;
    while let [line, tail @ ..] = rest {
        if line.is_empty() {
            rest = tail;
            continue;
        }
        let Some((name, value)) = line.split_once(':') else { break };
        let mut value = Cow::Borrowed(value.trim_start());
        rest = tail;
        while let (true, [next, tail @ ..]) = (value.ends_with('\\'), rest) {
            let value = value.to_mut();
            value.pop();
            value.push_str(next);
            rest = tail;
        }
        headers.push((name.trim().to_owned(), value.into_owned()));
    }
    Body { headers, bytes: decode(rest) }
}

fn decode(lines: &[&str]) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let len = lines.iter().map(|line| line.len()).sum();
    let mut base64 = Zeroizing::new(String::with_capacity(len));
    lines.iter().flat_map(|line| line.chars()).filter(|c| !c.is_whitespace()).for_each(|c| base64.push(c));
    Base64::decode_vec(&base64)
        .map(Zeroizing::new)
        .map_err(|_| KeyError::Malformed("the base64 text is broken"))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn lines_are_found_again_whatever_became_of_their_ends() {
        let want = |text: &str, label: &str, headers: &[(&str, &str)]| {
            let body = read(text, label);
            let met: Vec<(&str, &str)> = body.headers.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
            assert_eq!(met, headers, "{text:?}");
            assert_eq!(body.bytes.unwrap().as_slice(), b"\0\0\0\x0bssh-", "{text:?}");
        };
        for text in [
            "\nAAAAC3\nNzaC0=\n",
            "\r\nAAAAC3\r\nNzaC0=\r\n",
            "\rAAAAC3\rNzaC0=\r",
            " AAAAC3 NzaC0= ",
            "\\nAAAAC3\\r\\nNzaC0=\\n",
            "\\u000aAAAAC3NzaC0\\u003d",
            "\n> AAAAC3\n> > NzaC0=\n>\n",
            "\n  AAAAC3\n\tNzaC0=",
        ] {
            want(text, "PRIVATE KEY", &[]);
        }
        let dek = [("Proc-Type", "4,ENCRYPTED"), ("DEK-Info", "AES-128-CBC,00FF")];
        for text in [
            "\nProc-Type: 4,ENCRYPTED\nDEK-Info: AES-128-CBC,00FF\n\nAAAAC3NzaC0=\n",
            " Proc-Type: 4,ENCRYPTED DEK-Info: AES-128-CBC,00FF  AAAAC3 NzaC0= ",
        ] {
            want(text, "RSA PRIVATE KEY", &dek);
        }
        let comment = [("Subject", "fog"), ("Comment", "\"north lamp: old\"")];
        for text in [
            "\nSubject: fog\nComment: \"north lamp\\\n: old\"\nAAAAC3NzaC0=\n",
            " Subject: fog Comment: \"north lamp: old\" AAAAC3 NzaC0= ",
        ] {
            let body = read(text, RFC4716_LABEL);
            assert_eq!(body.headers.first().map(|(_, value)| value.as_str()), Some(comment[0].1));
            assert!(body.bytes.is_ok(), "{text:?}");
        }
    }

    /// A megabyte of it would take minutes if it were copied once for each of its lines.
    #[test]
    fn a_long_continuation_takes_linear_time() {
        let text = format!("\nComment: {}x\nAAAAC3NzaC0=\n", "abcdefg\\\n".repeat(120_000));
        let body = read(&text, RFC4716_LABEL);
        assert_eq!(body.headers.first().map(|(_, value)| value.len()), Some(7 * 120_000 + 1));
        assert!(body.bytes.is_ok());
    }
}
