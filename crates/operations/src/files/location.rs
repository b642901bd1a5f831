//! Where a file is, as it is typed: `PATH` here, `MACHINE:PATH` there, `-` for a stream.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use lantern_book::Protocol;

/// Where a file is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location {
    /// On this computer.
    Here(PathBuf),
    /// On machines.
    There {
        /// A selection, or a one-off.
        machine: String,
        /// The path there, which may be relative to the user's home, and empty for that.
        path: Vec<u8>,
    },
    /// Standard input or output.
    Stream,
}

/// Why a text is no location.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LocationError {
    /// Nothing stands in front of the colon.
    #[error("no machine stands in front of the colon")]
    NoMachine,
    /// A machine's name is no text.
    #[error("what stands in front of the colon is no name of a machine")]
    NoText,
    /// Nothing at all.
    #[error("an empty path")]
    Empty,
}

/// A path as a machine's file service takes it: on a machine of Windows, people write backslashes, and no name has one.
pub fn as_served(path: Vec<u8>, by: Protocol) -> Vec<u8> {
    match by {
        Protocol::Ssh => path,
        Protocol::Winrm => path.into_iter().map(|byte| if byte == b'\\' { b'/' } else { byte }).collect(),
    }
}

impl Location {
    /// Reads what was typed. A colon makes it a machine's, unless a slash stands before it: so `./a:b` is a file here. A URL has its path behind the
    /// address, from the root; with `/~/` in front, from the user's home.
    ///
    /// # Errors
    /// [`LocationError`].
    pub fn parse(text: &OsStr) -> Result<Self, LocationError> {
        let bytes = text.as_bytes();
        if bytes.is_empty() {
            return Err(LocationError::Empty);
        }
        if bytes == b"-" {
            return Ok(Self::Stream);
        }
        for scheme in [&b"ssh://"[..], b"winrm://"] {
            if let Some(rest) = bytes.strip_prefix(scheme) {
                let at = rest.iter().position(|byte| *byte == b'/').unwrap_or(rest.len());
                let (place, path) = rest.split_at(at);
                let path = path.strip_prefix(b"/~/").or(path.strip_prefix(b"/~")).unwrap_or(path);
                return Self::there(&[scheme, place].concat(), path);
            }
        }
        // The colons of an IPv6 address stand in brackets.
        let behind = match bytes.iter().position(|byte| *byte == b'[') {
            Some(open) if open == 0 || bytes.get(open - 1) == Some(&b'@') => {
                bytes.iter().position(|byte| *byte == b']').unwrap_or(0)
            }
            _ => 0,
        };
        let colon = bytes.iter().skip(behind).position(|byte| *byte == b':').map(|at| at + behind);
        let slash = bytes.iter().position(|byte| *byte == b'/');
        match colon {
            Some(0) => Err(LocationError::NoMachine),
            Some(colon) if slash.is_none_or(|slash| slash > colon) => {
                let (machine, path) = bytes.split_at(colon);
                Self::there(machine, path.get(1..).unwrap_or_default())
            }
            _ => Ok(Self::Here(PathBuf::from(text))),
        }
    }

    fn there(machine: &[u8], path: &[u8]) -> Result<Self, LocationError> {
        let machine = std::str::from_utf8(machine).map_err(|_| LocationError::NoText)?;
        Ok(Self::There { machine: machine.to_owned(), path: path.to_vec() })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn a_colon_makes_it_a_machines_unless_a_slash_stands_before_it() {
        let there =
            |machine: &str, path: &str| Location::There { machine: machine.into(), path: path.into() };
        for (typed, meant) in [
            ("lamp-01:/srv/x", there("lamp-01", "/srv/x")),
            ("lamp-01:", there("lamp-01", "")),
            ("@coast:notes:old.txt", there("@coast", "notes:old.txt")),
            ("keeper@192.0.2.7:a/b", there("keeper@192.0.2.7", "a/b")),
            ("[2001:db8::1]:/x", there("[2001:db8::1]", "/x")),
            ("keeper@[2001:db8::1]:x", there("keeper@[2001:db8::1]", "x")),
            ("ssh://keeper@192.0.2.7:2222/srv/x", there("ssh://keeper@192.0.2.7:2222", "/srv/x")),
            ("ssh://keeper@192.0.2.7/~/x", there("ssh://keeper@192.0.2.7", "x")),
            ("ssh://keeper@192.0.2.7", there("ssh://keeper@192.0.2.7", "")),
            ("winrm://tide-gauge/C:/x", there("winrm://tide-gauge", "/C:/x")),
            ("./a:b", Location::Here("./a:b".into())),
            ("/srv/a:b", Location::Here("/srv/a:b".into())),
            ("chart.svg", Location::Here("chart.svg".into())),
            ("-", Location::Stream),
        ] {
            assert_eq!(Location::parse(OsStr::new(typed)), Ok(meant), "{typed}");
        }
        assert_eq!(Location::parse(OsStr::new(":x")), Err(LocationError::NoMachine));
        assert_eq!(Location::parse(OsStr::from_bytes(b"\xff:x")), Err(LocationError::NoText));
    }
}
