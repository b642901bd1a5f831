//! Secrets from a file descriptor: for scripts that must not put them on a command line.

use std::fs::File;
use std::io::Read;

use lantern_keys::SecretString;
use zeroize::Zeroizing;

use crate::screen::failure::{Failure, code};

/// Longest secret that we read, in bytes.
const MAX_SECRET_LEN: u64 = 4096;

/// Reads a secret from an open file descriptor, up to its end or the first line end.
///
/// # Errors
/// When it is not open, not text, empty or too long.
pub(crate) fn from_descriptor(descriptor: u32) -> Result<SecretString, Failure> {
    let failed = |why: String| {
        Failure::new(code::LOCAL, format!("cannot read a secret from file descriptor {descriptor}: {why}"))
    };
    // Through the file system, so that a number that is not open is an error and not someone else's file.
    let file = File::open(format!("/dev/fd/{descriptor}")).map_err(|error| {
        failed(error.to_string()).hint("open it in the shell, for instance `3< FILE` or `3<<< \"$VARIABLE\"`")
    })?;
    // Full size from the start, so that growing leaves no copy behind.
    let mut bytes = Zeroizing::new(Vec::with_capacity(MAX_SECRET_LEN as usize + 1));
    file.take(MAX_SECRET_LEN + 1).read_to_end(&mut bytes).map_err(|error| failed(error.to_string()))?;
    if bytes.len() as u64 > MAX_SECRET_LEN {
        return Err(failed("it is longer than 4096 bytes".into()));
    }
    let line = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    if line.is_empty() {
        return Err(failed("it is empty".into()));
    }
    let text = std::str::from_utf8(line).map_err(|_| failed("it is not UTF-8 text".into()))?;
    Ok(SecretString::new(text.to_owned()))
}
