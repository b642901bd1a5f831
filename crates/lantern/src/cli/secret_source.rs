//! Where a secret comes from when nobody types it: for scripts, which must not put it on a command line.

use std::convert::Infallible;
use std::fmt;
use std::fs::File;
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::str::FromStr;

use lantern_keys::SecretString;
use zeroize::Zeroizing;

use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// Longest secret that we read, in bytes.
const MAX_SECRET_LEN: u64 = 4096;

/// What can be said.
const FORMS: &str = "fd:N, file:PATH or command:LINE";

/// Where a secret comes from, as it was typed. It may be the secret itself, put there by somebody who did not know: it is taken apart when it is
/// read, not by the parser of the command line, which would repeat it.
#[derive(Clone)]
pub(crate) struct SecretSource(String);

impl FromStr for SecretSource {
    type Err = Infallible;

    fn from_str(text: &str) -> Result<Self, Infallible> {
        Ok(Self(text.to_owned()))
    }
}

impl fmt::Debug for SecretSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SecretSource(…)")
    }
}

/// Where it is read from.
enum Source<'a> {
    /// An open file descriptor.
    Descriptor(u32),
    /// A file.
    File(&'a Path),
    /// What a command prints, run by the shell.
    Command(&'a str),
}

impl<'a> Source<'a> {
    fn of(text: &'a str) -> Result<Self, Failure> {
        let bad = |why: String| Err(Failure::new(code::USAGE, why));
        let (form, rest) = text.split_once(':').unwrap_or((text, ""));
        match (form, rest) {
            ("fd", number) => match number.parse() {
                Ok(number) => Ok(Self::Descriptor(number)),
                Err(_) => bad("behind `fd:` stands the number of an open file descriptor".into()),
            },
            ("file" | "command", "") => bad(format!("`{form}:` wants something behind it")),
            ("file", path) => Ok(Self::File(Path::new(path))),
            ("command", line) => Ok(Self::Command(line)),
            _ => bad(format!("say where the secret is to be read from, and not the secret itself: {FORMS}")),
        }
    }

    /// Reads the secret: what comes up to the first end of a line, or up to the end.
    ///
    /// # Errors
    /// When there is nothing to read from, or what is read is no text, empty or too long.
    fn read(&self) -> Result<SecretString, Failure> {
        match self {
            // Through the file system, so that a number that is not open is an error and not someone else's file.
            Self::Descriptor(number) => match File::open(format!("/dev/fd/{number}")) {
                Ok(file) => self.take(file),
                Err(error) => Err(self
                    .failed(&error.to_string())
                    .hint("open it in the shell, for instance `3< FILE` or `3<<< \"$VARIABLE\"`")),
            },
            Self::File(path) => {
                let file = File::open(path).map_err(|error| self.failed(&error.to_string()))?;
                let metadata = file.metadata().map_err(|error| self.failed(&error.to_string()))?;
                let mode = metadata.permissions().mode() & 0o777;
                if metadata.is_file() && mode & 0o077 != 0 {
                    output::warn(format!(
                        "others on this computer can read {} (mode {mode:04o}).",
                        path.display()
                    ));
                }
                self.take(file)
            }
            Self::Command(line) => self.run(line),
        }
    }

    fn run(&self, line: &str) -> Result<SecretString, Failure> {
        let mut child = Command::new("sh")
            .args(["-c", line])
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::inherit())
            .spawn()
            .map_err(|error| self.failed(&error.to_string()))?;
        let bytes = self.bytes(child.stdout.take().ok_or_else(|| self.failed("it prints nothing"))?)?;
        // One that printed more than is read was cut off by that, and cannot have ended well.
        let is_cut = bytes.len() as u64 > MAX_SECRET_LEN;
        let status = child.wait().map_err(|error| self.failed(&error.to_string()))?;
        if !status.success() && !is_cut {
            return Err(self.failed(&format!("it ended with {status}")));
        }
        self.first_line(&bytes)
    }

    fn take(&self, reader: impl Read) -> Result<SecretString, Failure> {
        self.first_line(&self.bytes(reader)?)
    }

    fn bytes(&self, reader: impl Read) -> Result<Zeroizing<Vec<u8>>, Failure> {
        // Full size from the start, so that growing leaves no copy behind.
        let mut bytes = Zeroizing::new(Vec::with_capacity(MAX_SECRET_LEN as usize + 1));
        let read = reader.take(MAX_SECRET_LEN + 1).read_to_end(&mut bytes);
        read.map(|_| bytes).map_err(|error| self.failed(&error.to_string()))
    }

    fn first_line(&self, bytes: &[u8]) -> Result<SecretString, Failure> {
        let line = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
        if line.len() as u64 > MAX_SECRET_LEN {
            return Err(self.failed("it is longer than 4096 bytes"));
        }
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        if line.is_empty() {
            return Err(self.failed("it is empty"));
        }
        let text = std::str::from_utf8(line).map_err(|_| self.failed("it is not UTF-8 text"))?;
        Ok(SecretString::new(text.to_owned()))
    }

    fn failed(&self, why: &str) -> Failure {
        let from = match self {
            Self::Descriptor(number) => format!("file descriptor {number}"),
            Self::File(path) => path.display().to_string(),
            Self::Command(_) => "the command".to_owned(),
        };
        Failure::new(code::LOCAL, format!("cannot read a secret from {from}: {why}"))
    }
}

impl SecretSource {
    /// Reads the secret.
    ///
    /// # Errors
    /// When it is no source, or there is nothing to read from it.
    pub(crate) fn read(&self) -> Result<SecretString, Failure> {
        Source::of(&self.0)?.read()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    fn read(text: &str) -> Result<SecretString, String> {
        SecretSource(text.to_owned()).read().map_err(|failure| failure.headline)
    }

    #[test]
    fn a_secret_is_one_line_wherever_it_comes_from() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let path = file.path().display().to_string();
        for (content, expected) in [
            (&b"low visibility"[..], Ok("low visibility")),
            (b"low visibility\r\nand more\n", Ok("low visibility")),
            (b"", Err("it is empty")),
            (b"\n", Err("it is empty")),
            (b"\xff\n", Err("it is not UTF-8 text")),
            (&[b'x'; 5000], Err("it is longer than 4096 bytes")),
        ] {
            std::fs::write(&path, content).unwrap();
            for source in [format!("file:{path}"), format!("command:cat '{path}'")] {
                match (read(&source), expected) {
                    (Ok(secret), Ok(expected)) => assert_eq!(secret.expose_secret(), expected),
                    (Err(error), Err(expected)) => assert!(error.ends_with(expected), "{error}"),
                    (met, _) => panic!("{source}: {met:?}"),
                }
            }
        }
    }

    /// Whoever puts the secret itself there does not see it again in an error.
    #[test]
    fn what_is_no_source_is_not_repeated() {
        for text in ["low visibility", "fd:low", "fd:", "file:", "command:", "", "pass:low"] {
            let error = read(text).unwrap_err();
            assert!(!error.contains("low"), "{error}");
            assert_eq!(format!("{:?}", SecretSource(text.to_owned())), "SecretSource(…)");
        }
        assert!(read("command:exit 3").unwrap_err().contains("exit status: 3"));
        assert!(read("command:printf x; exit 3").unwrap_err().contains("exit status: 3"));
        assert!(read("file:/nonexistent").unwrap_err().contains("/nonexistent"));
        // One that prints without end is cut off.
        assert!(read("command:yes").is_ok());
        assert!(read("command:yes | tr -d '\\n'").unwrap_err().contains("longer"));
    }
}
