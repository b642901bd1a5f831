//! Modes of the terminal that a machine's programs have switched on, and that nobody switches off when the connection is lost: the alternate screen,
//! the mouse, pasting in brackets, application keys, a hidden cursor. Watched as they go by, and put back at the end: those that are on, and no others.

/// Modes that are off in a shell, by their numbers behind `CSI ?` (ECMA-48 leaves those to private use; terminals agree on these).
const USUALLY_OFF: [u16; 17] =
    [1, 9, 47, 1000, 1001, 1002, 1003, 1004, 1005, 1006, 1007, 1015, 1016, 1047, 1048, 1049, 2004];
/// Modes that are on in a shell: the cursor shows, lines wrap.
const USUALLY_ON: [u16; 2] = [7, 25];
/// Longest sequence that is followed, in bytes: programs set a handful of modes in one.
const MAX_SEQUENCE: usize = 64;

const ESCAPE: u8 = 0x1b;

/// Where a sequence stands that was cut by the end of a piece.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
enum At {
    #[default]
    Text,
    Escape,
    /// Behind `CSI`, before anything else.
    Control,
    /// Behind `CSI ?`.
    Private,
}

/// Watches what goes to the terminal.
#[derive(Debug, Default)]
pub(crate) struct LeftOn {
    at: At,
    digits: Vec<u8>,
    /// Modes that are not as a shell has them, the latest last.
    changed: Vec<u16>,
    /// Whether the keypad sends what programs want (`ESC =`).
    keypad: bool,
    /// Whether the last that was written did not end its line.
    mid_line: bool,
}

impl LeftOn {
    /// Takes note of what is written.
    pub(crate) fn watch(&mut self, mut bytes: &[u8]) {
        if let Some(last) = bytes.last() {
            self.mid_line = *last != b'\n';
        }
        while let Some((byte, rest)) = bytes.split_first() {
            // Most of it is text, which is passed over quickly.
            if self.at == At::Text && *byte != ESCAPE {
                match bytes.iter().position(|byte| *byte == ESCAPE) {
                    Some(at) => bytes = bytes.get(at..).unwrap_or_default(),
                    None => return,
                }
                continue;
            }
            bytes = rest;
            self.step(*byte);
        }
    }

    fn step(&mut self, byte: u8) {
        self.at = match (self.at, byte) {
            (_, ESCAPE) => At::Escape,
            (At::Escape, b'[') => At::Control,
            (At::Escape, b'=' | b'>') => {
                self.keypad = byte == b'=';
                At::Text
            }
            // A reset of everything.
            (At::Escape, b'c') => {
                self.changed.clear();
                self.keypad = false;
                At::Text
            }
            (At::Control, b'?') => {
                self.digits.clear();
                At::Private
            }
            (At::Private, b'0'..=b'9' | b';') if self.digits.len() < MAX_SEQUENCE => {
                self.digits.push(byte);
                At::Private
            }
            (At::Private, b'h' | b'l') => {
                self.set(byte == b'h');
                At::Text
            }
            _ => At::Text,
        };
    }

    fn set(&mut self, on: bool) {
        let digits = std::mem::take(&mut self.digits);
        let numbers =
            digits.split(|byte| *byte == b';').filter_map(|number| std::str::from_utf8(number).ok());
        for mode in numbers.filter_map(|number| number.parse::<u16>().ok()) {
            let usual = match (USUALLY_OFF.contains(&mode), USUALLY_ON.contains(&mode)) {
                (true, _) => false,
                (_, true) => true,
                _ => continue,
            };
            self.changed.retain(|changed| *changed != mode);
            if on != usual {
                self.changed.push(mode);
            }
        }
    }

    /// What puts the terminal back, with colors off and on a line of its own; nothing where nothing is amiss.
    pub(crate) fn undo(&self) -> String {
        let mut text = String::new();
        // The last that was switched on goes first: the alternate screen last of all, so that the rest is not put back on the wrong one.
        for mode in self.changed.iter().rev() {
            let letter = if USUALLY_ON.contains(mode) { 'h' } else { 'l' };
            text.push_str(&format!("\x1b[?{mode}{letter}"));
        }
        if self.keypad {
            text.push_str("\x1b>");
        }
        if !text.is_empty() {
            text.push_str(super::session_ask::READABLE);
        }
        if self.mid_line || !text.is_empty() {
            text.push_str("\r\n");
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn undo(pieces: &[&[u8]]) -> String {
        let mut watch = LeftOn::default();
        pieces.iter().for_each(|piece| watch.watch(piece));
        watch.undo()
    }

    #[test]
    fn what_a_full_screen_program_left_on_is_switched_off() {
        // As editors begin: the alternate screen, application keys, the mouse, pasting in brackets, no cursor.
        let begin = b"\x1b[?1049h\x1b[22;0;0t\x1b[?1h\x1b=\x1b[?2004h\x1b[?1002;1006h\x1b[?25l\x1b[2Jtext";
        let text = undo(&[begin]);
        assert_eq!(
            text,
            "\x1b[?25h\x1b[?1006l\x1b[?1002l\x1b[?2004l\x1b[?1l\x1b[?1049l\x1b>\x1b[0m\x0f\x1b(B\r\n"
        );
        // What it switched off itself is left alone.
        let end = b"\x1b[?25h\x1b[?1006;1002l\x1b[?2004l\x1b[?1l\x1b>\x1b[?1049l\r\n";
        assert_eq!(undo(&[begin, end]), "");
        assert_eq!(undo(&[begin, b"\x1bc\n"]), "");
        assert_eq!(undo(&[b"plain text\n"]), "");
        assert_eq!(undo(&[b"half a line"]), "\r\n");
    }

    #[test]
    fn it_is_the_same_however_it_is_cut() {
        let all =
            b"a\x1b[?1049hb\x1b[?25l\x1b[31mc\x1b[?1000;1006h\x1b\x1b[?7l\x1b[?\x1b[?9999;x\x1b[?2004$p\n";
        let whole = undo(&[all]);
        assert!(whole.contains("1049l") && whole.contains("25h") && whole.contains("7h"), "{whole:?}");
        for at in 0..all.len() {
            assert_eq!(undo(&[&all[..at], &all[at..]]), whole, "{at}");
        }
        let bytes: Vec<&[u8]> = all.chunks(1).collect();
        assert_eq!(undo(&bytes), whole);
    }

    /// Numbers without end, sequences without end, and nothing that a machine says comes back from us.
    #[test]
    fn a_machine_cannot_make_us_say_anything_of_its_own() {
        let mut watch = LeftOn::default();
        watch.watch(b"\x1b[?");
        watch.watch(&[b'1'; 100_000]);
        watch.watch(b"h\x1b[?65536h\x1b[?99999999999h\x1b[?-1h\x1b[? 1049h");
        for mode in 0..5000 {
            watch.watch(format!("\x1b[?{mode}h\x1b[?{mode}h").as_bytes());
        }
        assert!(watch.changed.len() <= USUALLY_OFF.len() + USUALLY_ON.len());
        let text = watch.undo();
        let allowed = |c: char| c.is_ascii_digit() || "\x1b[?hl>0m\x0f(B\r\n".contains(c);
        assert!(text.chars().all(allowed) && text.len() < 400, "{text:?}");
    }
}
