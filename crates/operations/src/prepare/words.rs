//! Values within the scripts: one word each, whatever is in them, and nothing that a console does something with while it is typed.

/// A text as one word of a POSIX shell. What would mean something to a line editor or to a shell's memory of commands, and all that is not plain
/// ASCII, stands as a number: the script is pasted at a prompt.
pub(super) fn posix_word(text: &str) -> String {
    let plain = |byte: u8| (b' '..=b'~').contains(&byte) && !b"'!\\".contains(&byte);
    if text.bytes().all(plain) {
        return format!("'{text}'");
    }
    let escaped: String = text
        .bytes()
        .map(|byte| match plain(byte) {
            true => char::from(byte).to_string(),
            false => format!("\\0{byte:03o}"),
        })
        .collect();
    format!("\"$(printf '%b' '{escaped}')\"")
}

/// A text as one word of PowerShell: within single quotes nothing is expanded. Typographic quotes end a text there as well, so that they, and what is not
/// plain ASCII, stand as numbers.
pub(super) fn power_shell_word(text: &str) -> String {
    let plain = |unit: &u16| (0x20..0x7f).contains(unit) && *unit != u16::from(b'\'');
    let units: Vec<u16> = text.encode_utf16().collect();
    if units.iter().all(plain) {
        return format!("'{text}'");
    }
    let pieces = units.iter().map(|unit| format!("[char]{unit}")).collect::<Vec<_>>();
    format!("(-join @({}))", pieces.join(", "))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::process::Command;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn any_text_is_one_word_for_a_shell(text in "[ -~é灯!'\"`$\\\\]{0,30}[ -~]") {
            let word = posix_word(&text);
            prop_assert!(word.bytes().all(|byte| (b' '..=b'~').contains(&byte) && byte != b'!'), "{}", word);
            let script = format!("set -- {word}; printf '%s|%s' $# \"$1\"");
            let said = Command::new("sh").args(["-c", &script]).output().unwrap();
            prop_assert_eq!(String::from_utf8(said.stdout).unwrap(), format!("1|{text}"));
        }
    }

    #[test]
    fn what_ends_a_text_in_power_shell_does_not_stand_in_it() {
        assert_eq!(power_shell_word("lamp-01"), "'lamp-01'");
        assert_eq!(power_shell_word("$(x) `a \"b\""), "'$(x) `a \"b\"'");
        assert_eq!(power_shell_word("a'b"), "(-join @([char]97, [char]39, [char]98))");
        assert_eq!(power_shell_word("\u{2019}"), "(-join @([char]8217))");
    }
}
