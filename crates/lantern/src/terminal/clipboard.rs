//! The terminal's clipboard, by the sequence that terminals share for it (OSC 52): it works through any number of shells.

use std::fs::File;
use std::io::Write;

use base64ct::{Base64, Encoding};

use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// Longest text that is put there, in bytes: many terminals take no more.
const MAX_LEN: usize = 64 * 1024;

/// Puts a text there. Whether the terminal takes it, it does not say. `instead` says what to do where there is no terminal.
///
/// # Errors
/// No terminal, or a text that none takes.
pub(crate) fn put(text: &str, instead: &str) -> Result<(), Failure> {
    let failed = |why: String| Failure::new(code::LOCAL, format!("cannot reach a clipboard: {why}"));
    if text.len() > MAX_LEN {
        return Err(failed("the text is too long for one".into()));
    }
    let mut terminal = File::options()
        .write(true)
        .open("/dev/tty")
        .map_err(|_| failed("there is no terminal".into()).hint(instead))?;
    let sequence = format!("\x1b]52;c;{}\x07", Base64::encode_string(text.as_bytes()));
    terminal.write_all(sequence.as_bytes()).map_err(|error| failed(error.to_string()))?;
    output::say("Handed to the terminal's clipboard; a terminal that does not take it says nothing.");
    Ok(())
}
