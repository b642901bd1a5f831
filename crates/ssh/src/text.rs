//! Text from a peer on its way to a terminal: control characters are made harmless (RFC 4251 §9.2, RFC 4252 §5.4).

/// Keeps printable characters, line feeds and tabs; shows every other control character as `␛`-style symbols, and
/// the invisible direction changers of Unicode as `�`. Cut after `max_len` bytes.
pub fn neutralize(text: &str, max_len: usize) -> String {
    let mut out = String::with_capacity(text.len().min(max_len));
    for c in text.chars() {
        if out.len() + c.len_utf8() > max_len {
            break;
        }
        match c {
            '\n' | '\t' => out.push(c),
            '\r' => {}
            '\0'..='\x1f' => out.push(char::from_u32(0x2400 + c as u32).unwrap_or('\u{fffd}')),
            '\x7f' => out.push('\u{2421}'),
            '\u{80}'..='\u{9f}'
            | '\u{200b}'..='\u{200f}'
            | '\u{202a}'..='\u{202e}'
            | '\u{2066}'..='\u{2069}' => {
                out.push('\u{fffd}');
            }
            _ => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::neutralize;

    #[test]
    fn a_banner_cannot_move_the_cursor_or_turn_text_around() {
        assert_eq!(neutralize("\x1b[2Jhi\r\n\u{9b}1m\u{202e}x\x07", 100), "␛[2Jhi\n\u{fffd}1m\u{fffd}x␇");
        assert_eq!(neutralize("åååå", 5), "åå");
    }
}
