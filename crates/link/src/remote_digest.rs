//! What a file on a machine holds, computed there by what it has.

use std::time::Duration;

use crate::capture::capture_within;
use crate::{LinkError, Trunk};

/// Bytes a second that a machine may be expected to read and digest at least.
const SLOWEST: u64 = 4 * 1024 * 1024;

/// Reads a length in a line, then a path, and prints the SHA-256 of so many first bytes of that file. What is in the path is nothing to any shell: it comes
/// through standard input. Status 97: there is no program for it.
pub const DIGEST_COMMAND: &str = "exec /bin/sh -c '\
LC_ALL=C; export LC_ALL; PATH=$PATH:/usr/bin:/bin:/sbin:/usr/sbin; \
read -r n || exit 98; p=$(cat; echo x); p=${p%x}; \
if command -v sha256sum >/dev/null 2>&1; then d=sha256sum; \
elif command -v shasum >/dev/null 2>&1; then d=\"shasum -a 256\"; \
elif command -v sha256 >/dev/null 2>&1; then d=\"sha256 -q\"; \
elif command -v openssl >/dev/null 2>&1; then d=\"openssl dgst -sha256 -r\"; \
else exit 97; fi; \
exec <\"$p\" || exit 96; head -c \"$n\" | $d'";

/// The digest of the first bytes of a file, by its absolute path; none where the machine has no shell or no program for it, or may not read the file.
///
/// # Errors
/// No session, no end in time, or the connection was lost.
pub async fn digest_there(trunk: &Trunk, path: &[u8], len: u64) -> Result<Option<[u8; 32]>, LinkError> {
    let input = [format!("{len}\n").as_bytes(), path].concat();
    let limit = trunk.answer_limit() + Duration::from_secs(len / SLOWEST);
    let captured = match capture_within(trunk, DIGEST_COMMAND, &input, limit).await {
        // Where commands are not let in, files may still be.
        Err(LinkError::RequestRefused { .. } | LinkError::ChannelRefused { .. }) => return Ok(None),
        captured => captured?,
    };
    Ok(captured.status.filter(|status| *status == 0).and_then(|_| read_digest(&captured.out)))
}

/// The digest among the words that such a program prints.
fn read_digest(out: &[u8]) -> Option<[u8; 32]> {
    let text = std::str::from_utf8(out).ok()?;
    let hex = text
        .split_ascii_whitespace()
        .find(|word| word.len() == 64 && word.bytes().all(|byte| byte.is_ascii_hexdigit()))?;
    let mut digest = [0; 32];
    for (at, byte) in digest.iter_mut().enumerate() {
        *byte = u8::from_str_radix(hex.get(2 * at..2 * at + 2)?, 16).ok()?;
    }
    Some(digest)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn the_digest_is_found_in_what_programs_print() {
        let hex = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        for out in [format!("{hex}  -\n"), format!("{hex} *stdin\n"), format!("{hex}\n")] {
            let digest = read_digest(out.as_bytes()).unwrap();
            assert_eq!(digest.iter().map(|byte| format!("{byte:02x}")).collect::<String>(), hex);
        }
        assert_eq!(read_digest(b"no such file"), None);
        assert_eq!(read_digest(&[0xff; 70]), None);
    }

    /// The command as a shell of this system runs it, with a path that would mean something to it.
    #[test]
    fn the_command_digests_the_beginning_of_a_file_whatever_it_is_called() {
        use std::io::Write;
        use std::process::{Command, Stdio};
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a 'b' $(reboot) \"c\"\nd");
        std::fs::write(&path, "abcdef").unwrap();
        let mut child = Command::new("sh")
            .args(["-c", DIGEST_COMMAND])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let input = format!("3\n{}", path.display());
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        let out = child.wait_with_output().unwrap();
        assert!(out.status.success(), "{out:?}");
        assert_eq!(read_digest(&out.stdout).map(|digest| digest[..2].to_vec()), Some(vec![0xba, 0x78]));
    }
}
