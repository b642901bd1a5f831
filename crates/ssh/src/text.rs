//! Text from a peer on its way to a terminal: control characters are made harmless (RFC 4251 §9.2, RFC 4252 §5.4).

/// Keeps printable characters, line feeds and tabs; shows every other control character as `␛`-style symbols, and
/// the invisible direction changers of Unicode as `�`. Cut after `max_len` bytes.
pub fn neutralize(text: &str, max_len: usize) -> String {
    let mut out = String::with_capacity(text.len().min(max_len));
    for c in text.chars() {
        let shown = match c {
            '\r' => continue,
            '\n' | '\t' => c,
            '\0'..='\x1f' => char::from_u32(0x2400 + c as u32).unwrap_or('\u{fffd}'),
            '\x7f' => '\u{2421}',
            c if is_invisible(c) => '\u{fffd}',
            _ => c,
        };
        if out.len() + shown.len_utf8() > max_len {
            break;
        }
        out.push(shown);
    }
    out
}

/// The same on one line: ends of lines and tabs are spaces.
pub fn neutralize_line(text: &str, max_len: usize) -> String {
    neutralize(text, max_len).replace(['\n', '\t'], " ")
}

/// Whether a character shows nothing by itself and changes what is around it, or what it is taken for: controls beyond ASCII, marks that turn text
/// around, separators of lines, joiners, and tags.
pub fn is_invisible(c: char) -> bool {
    matches!(
        c,
        '\u{80}'..='\u{9f}'
            | '\u{ad}'
            | '\u{61c}'
            | '\u{115f}'..='\u{1160}'
            | '\u{180e}'
            | '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}'
            | '\u{3164}'
            | '\u{feff}'
            | '\u{ffa0}'
            | '\u{fff9}'..='\u{fffb}'
            | '\u{e0000}'..='\u{e0fff}'
    )
}

#[cfg(test)]
mod tests {
    use super::{neutralize, neutralize_line};

    #[test]
    fn a_banner_cannot_move_the_cursor_or_turn_text_around() {
        assert_eq!(neutralize("\x1b[2Jhi\r\n\u{9b}1m\u{202e}x\x07", 100), "␛[2Jhi\n\u{fffd}1m\u{fffd}x␇");
        assert_eq!(neutralize("åååå", 5), "åå");
        // What stands for a control is longer than it.
        assert_eq!(neutralize(&"\x07".repeat(10), 10), "␇".repeat(3));
        assert_eq!(neutralize_line("a\nb\tc\u{2028}d", 100), "a b c\u{fffd}d");
        // Tags and joiners say nothing that anybody sees.
        let hidden: String = ['\u{e0041}', '\u{2060}', '\u{feff}', '\u{ad}', '\u{61c}'].iter().collect();
        assert_eq!(neutralize(&hidden, 100), "\u{fffd}".repeat(5));
        // What people write stays.
        let written = "Nordmølen Leuchtturm фонарь 灯台 منارة ✓ → — ½";
        assert_eq!(neutralize(written, 200), written);
    }
}
