//! Characters that XML cannot hold, as `_xHHHH_` (MS-PSRP 2.2.5.3.2).

use std::borrow::Cow;

/// Text as it was before it was escaped. Halves of characters that have no other half become the mark for that.
pub(super) fn unescape(text: &str) -> Cow<'_, str> {
    if !text.contains("_x") {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("_x") {
        let (before, from) = rest.split_at(at);
        out.push_str(before);
        let mut units = Vec::new();
        rest = from;
        while let Some((unit, behind)) = unit(rest) {
            units.push(unit);
            rest = behind;
        }
        match units.is_empty() {
            // Two characters like any others.
            true => {
                let (these, behind) = rest.split_at("_x".len());
                out.push_str(these);
                rest = behind;
            }
            false => out.extend(
                char::decode_utf16(units).map(|decoded| decoded.unwrap_or(char::REPLACEMENT_CHARACTER)),
            ),
        }
    }
    out.push_str(rest);
    Cow::Owned(out)
}

/// The unit of UTF-16 that an escape at the beginning stands for, and what is behind it.
fn unit(text: &str) -> Option<(u16, &str)> {
    let digits =
        text.strip_prefix("_x")?.get(..4).filter(|four| four.bytes().all(|b| b.is_ascii_hexdigit()))?;
    let behind = text.get("_xHHHH".len()..)?.strip_prefix('_')?;
    Some((u16::from_str_radix(digits, 16).ok()?, behind))
}

/// Text in which nothing stands that XML cannot hold, nor what would be taken for an escape.
pub(super) fn escape(text: &str) -> Cow<'_, str> {
    let is_plain = |c: char| !c.is_control() && !matches!(c, '\u{fffe}' | '\u{ffff}');
    if text.chars().all(is_plain) && !text.contains("_x") {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        if !is_plain(c) || c == '_' && chars.peek().is_some_and(|next| *next == 'x') {
            for unit in c.encode_utf16(&mut [0; 2]) {
                out.push_str(&format!("_x{unit:04X}_"));
            }
        } else {
            out.push(c);
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn escapes_are_read_as_the_standard_has_them() {
        for (escaped, text) in [
            ("a_x000A_b", "a\nb"),
            ("_x005F_x000A_", "_x000A_"),
            ("_xD83D__xDCA1_", "\u{1f4a1}"),
            ("_xD83D_", "\u{fffd}"),
            ("_x12", "_x12"),
            ("_xZZZZ_", "_xZZZZ_"),
            ("_x_x0041_", "_xA"),
            ("_", "_"),
        ] {
            assert_eq!(unescape(escaped), text, "{escaped}");
        }
        assert_eq!(escape("tide_x\u{1b}[31m"), "tide_x005F_x_x001B_[31m");
    }

    proptest! {
        #[test]
        fn any_text_comes_back(text in "(_x|[0-9A-F]{1,4}|_|\\PC|\\pC){0,20}") {
            let escaped = escape(&text).into_owned();
            prop_assert!(!escaped.chars().any(char::is_control));
            prop_assert_eq!(unescape(&escaped), &*text);
            let _ = unescape(&text);
        }
    }
}
