//! Small files that are each about one machine: what they are called.

use std::io::ErrorKind;

/// Longest name of a file, in bytes; most file systems take 255. What is called longer has none.
const MAX_NAME_LEN: usize = 200;

/// The name of a machine's file: as the machine is called, with what may not stand in the name of a file by its number.
pub(crate) fn name(machine: &str) -> Option<String> {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_@:".contains(&byte);
    let mut name = String::new();
    for (at, byte) in machine.bytes().enumerate() {
        match plain(byte) || (byte == b'.' && at > 0) {
            true => name.push(char::from(byte)),
            false => name.push_str(&format!("%{byte:02x}")),
        }
    }
    (!name.is_empty() && name.len() <= MAX_NAME_LEN).then_some(name)
}

/// The machine that a file is about.
pub(crate) fn machine(name: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(name.len());
    let mut rest = name.as_bytes();
    while let Some((byte, after)) = rest.split_first() {
        let (byte, after) = match byte {
            b'%' => {
                let (digits, after) = after.split_at_checked(2)?;
                (u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?, after)
            }
            plain => (*plain, after),
        };
        bytes.push(byte);
        rest = after;
    }
    String::from_utf8(bytes).ok()
}

/// A file that is not there is as good as one that was done with.
pub(crate) fn or_nothing_there(done: std::io::Result<()>) -> std::io::Result<()> {
    match done {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
        done => done,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_file_is_called_so_that_its_machine_can_be_told(text in "[ -~é灯]{1,30}") {
            let file = name(&text).unwrap_or_default();
            prop_assert!(!file.contains('/') && !file.starts_with('.'));
            prop_assert_eq!(machine(&file), Some(text));
        }
    }
}
