//! The name of a display, as DISPLAY has it: `[HOST]:NUMBER[.SCREEN]`, or the path of its socket.

use std::fmt;
use std::path::{Path, PathBuf};

/// The port of display 0; the others follow (X Window System Protocol, "Connection Setup").
const FIRST_PORT: u16 = 6000;
/// Where displays of this computer have their sockets.
const SOCKETS: &str = "/tmp/.X11-unix";

/// Where a display is.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Place {
    /// On this computer, by its number.
    Here,
    /// At another, or reached as if it were.
    Host(String),
    /// At a socket that is named.
    Socket(PathBuf),
}

/// The name of a display.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DisplayName {
    place: Place,
    number: u16,
    screen: u32,
}

impl DisplayName {
    /// Reads it; none when it is no name of a display.
    pub fn parse(text: &str) -> Option<Self> {
        if text.len() > 1024 || text.contains(|c: char| c.is_control()) {
            return None;
        }
        if let Some(path) = text.strip_prefix("unix:").or(Some(text)).filter(|path| path.starts_with('/')) {
            return Some(Self { place: Place::Socket(PathBuf::from(path)), number: 0, screen: 0 });
        }
        let (host, rest) = text.rsplit_once(':')?;
        let (number, screen) = rest.split_once('.').unwrap_or((rest, "0"));
        let number: u16 = number.parse().ok().filter(|number| *number <= u16::MAX - FIRST_PORT)?;
        let place = match host {
            "" | "unix" => Place::Here,
            // A protocol in front of it: what is meant is a socket, or a host.
            host if host.ends_with("/unix") => Place::Here,
            host => {
                let host = host.strip_prefix("tcp/").unwrap_or(host);
                Place::Host(host.trim_start_matches('[').trim_end_matches(']').to_owned())
            }
        };
        Some(Self { place, number, screen: screen.parse().ok()? })
    }

    /// The number.
    pub fn number(&self) -> u16 {
        self.number
    }

    /// The screen that is meant.
    pub fn screen(&self) -> u32 {
        self.screen
    }

    /// The host and port, where it is reached like that.
    pub(super) fn host(&self) -> Option<(&str, u16)> {
        match &self.place {
            Place::Host(host) => Some((host, FIRST_PORT + self.number)),
            _ => None,
        }
    }

    /// The socket, where it has one.
    pub(super) fn socket(&self) -> Option<PathBuf> {
        match &self.place {
            Place::Here => Some(Path::new(SOCKETS).join(format!("X{}", self.number))),
            Place::Socket(path) => Some(path.clone()),
            Place::Host(_) => None,
        }
    }
}

impl fmt::Display for DisplayName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.place {
            Place::Here => write!(f, ":{}", self.number)?,
            Place::Host(host) => write!(f, "{host}:{}", self.number)?,
            Place::Socket(path) => write!(f, "{}", path.display())?,
        }
        if self.screen > 0 { write!(f, ".{}", self.screen) } else { Ok(()) }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn every_form_is_understood() {
        for (text, shown, socket, host) in [
            (":0", ":0", Some("/tmp/.X11-unix/X0"), None),
            ("unix:7.1", ":7.1", Some("/tmp/.X11-unix/X7"), None),
            ("localhost:10.0", "localhost:10", None, Some(("localhost", 6010))),
            ("[::1]:3", "::1:3", None, Some(("::1", 6003))),
            ("pier/unix:2", ":2", Some("/tmp/.X11-unix/X2"), None),
            ("tcp/pier:2", "pier:2", None, Some(("pier", 6002))),
            ("/run/display/here", "/run/display/here", Some("/run/display/here"), None),
        ] {
            let name = DisplayName::parse(text).unwrap();
            assert_eq!(name.to_string(), shown);
            assert_eq!(name.socket(), socket.map(PathBuf::from));
            assert_eq!(name.host(), host);
        }
        for text in ["", "0", ":", ":x", ":0.x", ":99999", "pier", ":-1", ":0\n"] {
            assert_eq!(DisplayName::parse(text), None, "{text:?}");
        }
    }

    proptest! {
        #[test]
        fn what_is_shown_is_read_again(text in "(unix|pier|\\[::1\\])?:[0-9]{1,5}(\\.[0-9])?|/[a-z/]{0,9}|\\PC{0,9}") {
            if let Some(name) = DisplayName::parse(&text) {
                prop_assert_eq!(DisplayName::parse(&name.to_string()).map(|name| name.number), Some(name.number));
            }
        }
    }
}
