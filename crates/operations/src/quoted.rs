//! Paths within commands that somebody types.

use std::path::Path;

/// A path as it can be typed in a POSIX shell.
pub fn quoted(path: &Path) -> String {
    quoted_text(&path.display().to_string())
}

/// A text that a POSIX shell takes for one word and nothing else (XCU 2.2.2).
pub(crate) fn quoted_text(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./~@+:,".contains(c);
    match !text.is_empty() && !text.starts_with('~') && text.chars().all(plain) {
        true => text.to_owned(),
        false => format!("'{}'", text.replace('\'', "'\\''")),
    }
}

/// A command with what stands in braces replaced by what it is called here, each as a word that a POSIX shell takes for one word and nothing else. Other
/// braces stay.
pub(crate) fn filled(command: &str, values: &[(&str, &str)]) -> String {
    let mut out = String::new();
    let mut rest = command;
    // From left to right and once: what is put in is not looked at again.
    while let Some((before, behind)) = rest.split_once('{') {
        out.push_str(before);
        let named = |(name, value): &(&str, &str)| {
            Some((behind.strip_prefix(name)?.strip_prefix('}')?, quoted_text(value)))
        };
        rest = match values.iter().find_map(named) {
            Some((after, value)) => {
                out.push_str(&value);
                after
            }
            None => {
                out.push('{');
                behind
            }
        };
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn a_path_can_be_typed_as_it_is_shown() {
        for (path, shown) in [
            ("/home/keeper/a.key", "/home/keeper/a.key"),
            ("/tmp/two words", "'/tmp/two words'"),
            ("~", "'~'"),
            ("/tmp/it's", "'/tmp/it'\\''s'"),
            ("/tmp/$(reboot)", "'/tmp/$(reboot)'"),
        ] {
            assert_eq!(quoted(Path::new(path)), shown);
            let said = std::process::Command::new("sh").args(["-c", &format!("printf %s {shown}")]).output();
            assert_eq!(String::from_utf8(said.unwrap().stdout).unwrap(), path);
        }
    }
}
