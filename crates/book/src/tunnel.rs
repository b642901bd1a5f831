//! A tunnel as the book stores it: `local 8443 to 127.0.0.1:443`, and words behind that.

use std::fmt;
use std::net::IpAddr;

use crate::check::check_address;
use crate::destination::split_port;

/// Which way a tunnel leads (the trade's words).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum TunnelKind {
    /// Listens here, leads to something that the machine reaches.
    Local,
    /// Listens on the machine, leads to something that we reach.
    Remote,
    /// Listens here, leads wherever the program that uses it asks for.
    Dynamic,
}

impl TunnelKind {
    /// Its word in the book.
    pub fn word(self) -> &'static str {
        match self {
            Self::Local => "local",
            Self::Remote => "remote",
            Self::Dynamic => "dynamic",
        }
    }
}

/// One end of a tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum TunnelEnd {
    /// A port.
    Tcp {
        /// The host, by name or address.
        host: String,
        /// The port; 0 where it listens: one that is free.
        port: u16,
    },
    /// A unix socket, by its absolute path.
    Unix(String),
}

impl TunnelEnd {
    /// Whether who listens there is reached by this computer (or that machine) alone.
    pub fn is_loopback(&self) -> bool {
        match self {
            Self::Unix(_) => true,
            Self::Tcp { host, .. } => match host.parse::<IpAddr>() {
                Ok(address) => address.is_loopback(),
                Err(_) => host.eq_ignore_ascii_case("localhost"),
            },
        }
    }

    fn parse(word: &str, is_listening: bool) -> Result<Self, &'static str> {
        if let Some(path) = word.strip_prefix("unix:") {
            let plain =
                path.starts_with('/') && path.len() <= MAX_SOCKET_PATH && !path.contains(char::is_control);
            return if plain { Ok(Self::Unix(path.to_owned())) } else { Err(SOCKET) };
        }
        if is_listening && word == "0" {
            return Ok(Self::Tcp { host: LOOPBACK.to_owned(), port: 0 });
        }
        if let Ok(port) = word.parse::<u16>()
            && port > 0
            && is_listening
        {
            return Ok(Self::Tcp { host: LOOPBACK.to_owned(), port });
        }
        // A port that is to be chosen, at an address that is said.
        let (word, chosen) = match word.strip_suffix(":0").filter(|_| is_listening) {
            Some(host) if host.ends_with(']') || !host.contains(':') => (format!("{host}:1"), true),
            _ => (word.to_owned(), false),
        };
        match split_port(&word) {
            Some((host, Some(port))) if check_address(host).is_ok() => {
                Ok(Self::Tcp { host: host.to_owned(), port: if chosen { 0 } else { port } })
            }
            _ => Err(FORM),
        }
    }
}

impl fmt::Display for TunnelEnd {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tcp { host, port } => f.write_str(&crate::place(host, *port)),
            Self::Unix(path) => write!(f, "unix:{path}"),
        }
    }
}

/// A tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Tunnel {
    /// Which way it leads.
    pub kind: TunnelKind,
    /// Where it listens.
    pub listen: TunnelEnd,
    /// Where it leads; nowhere fixed for a dynamic one.
    pub to: Option<TunnelEnd>,
    /// It may listen for others than this computer.
    pub wide: bool,
    /// The keeper opens it when it starts.
    pub at_start: bool,
    /// How long callers are held while the link is down, in seconds.
    pub hold: Option<u64>,
    /// What is run here once it carries, with `{address}` and `{port}` in it.
    pub then: Option<String>,
}

/// Where a tunnel listens when only a port is given: not for the whole network.
const LOOPBACK: &str = "127.0.0.1";
/// Longest path of a socket, in bytes: what a socket address has room for (unix(7)), less the zero behind it.
const MAX_SOCKET_PATH: usize = 107;
/// Longest that callers are held, in seconds: longer no program waits.
pub const MAX_HOLD: u64 = 3600;
const FORM: &str = "must read `local LISTEN to PLACE`, `remote LISTEN to PLACE` or `dynamic LISTEN`, with [ADDRESS:]PORT or unix:PATH at either end, and behind it, where wanted, `wide`, `at-start`, `hold SECONDS`, `then COMMAND`";
const SOCKET: &str = "must name a socket by its absolute path of at most 107 bytes, in quotes where there are spaces in it: \"unix:/run/fog horn.sock\"";
/// Tunnels are told in one line, with a semicolon and a space between them.
const THEN: &str = "must have one command behind `then`, without `; ` in it: several make a script";
const HOLD: &str = "must hold callers for 0 to 3600 seconds";

/// The next word and what is behind it: up to a space, or in quotes.
fn next_word(text: &str) -> Result<Option<(String, &str)>, &'static str> {
    let text = text.trim_start();
    let Some(quoted) = text.strip_prefix('"') else {
        let end = text.find(char::is_whitespace).unwrap_or(text.len());
        let (word, rest) = text.split_at(end);
        return Ok((!word.is_empty()).then(|| (word.to_owned(), rest)));
    };
    let mut word = String::new();
    let mut chars = quoted.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Ok(Some((word, quoted.get(at + 1..).unwrap_or_default()))),
            '\\' => match chars.next() {
                Some((_, c @ ('"' | '\\'))) => word.push(c),
                _ => return Err(FORM),
            },
            c => word.push(c),
        }
    }
    Err(FORM)
}

/// A word as it stands in the form, in quotes where it needs them.
pub(crate) fn quoted(word: &str) -> String {
    match word.contains(|c: char| c.is_whitespace() || c == '"') {
        true => format!("\"{}\"", word.replace('\\', "\\\\").replace('"', "\\\"")),
        false => word.to_owned(),
    }
}

impl Tunnel {
    /// One that listens on loopback or where it says, without any of the words behind.
    pub fn new(kind: TunnelKind, listen: TunnelEnd, to: Option<TunnelEnd>) -> Self {
        Self { kind, listen, to, wide: false, at_start: false, hold: None, then: None }
    }

    /// Reads where one end is, as in the book: `[ADDRESS:]PORT` or `unix:PATH`.
    ///
    /// # Errors
    /// What it must be.
    pub fn parse_end(word: &str, is_listening: bool) -> Result<TunnelEnd, &'static str> {
        TunnelEnd::parse(word, is_listening)
            .map_err(|rule| if rule == FORM { "must be [ADDRESS:]PORT or unix:PATH" } else { rule })
    }

    /// Reads the form of the book.
    ///
    /// # Errors
    /// What the form must be.
    pub fn parse(text: &str) -> Result<Self, &'static str> {
        let mut rest = text;
        let mut word = || -> Result<Option<String>, &'static str> {
            Ok(next_word(rest)?.map(|(word, behind)| {
                rest = behind;
                word
            }))
        };
        let kind = match word()?.as_deref() {
            Some("local") => TunnelKind::Local,
            Some("remote") => TunnelKind::Remote,
            Some("dynamic") => TunnelKind::Dynamic,
            _ => return Err(FORM),
        };
        let listen = TunnelEnd::parse(&word()?.ok_or(FORM)?, true)?;
        let to = match kind {
            TunnelKind::Dynamic => None,
            _ if word()?.as_deref() != Some("to") => return Err(FORM),
            _ => Some(TunnelEnd::parse(&word()?.ok_or(FORM)?, false)?),
        };
        let mut tunnel = Self::new(kind, listen, to);
        while let Some((word, behind)) = next_word(rest)? {
            rest = behind;
            match word.as_str() {
                "wide" if !tunnel.wide => tunnel.wide = true,
                "at-start" if !tunnel.at_start => tunnel.at_start = true,
                "hold" if tunnel.hold.is_none() => {
                    let (seconds, behind) = next_word(rest)?.ok_or(HOLD)?;
                    rest = behind;
                    let seconds = seconds.parse().ok().filter(|seconds| *seconds <= MAX_HOLD);
                    tunnel.hold = Some(seconds.ok_or(HOLD)?);
                }
                "then" => {
                    let command = rest.trim();
                    if command.is_empty() || command.contains(char::is_control) || command.contains("; ") {
                        return Err(THEN);
                    }
                    tunnel.then = Some(command.to_owned());
                    break;
                }
                _ => return Err(FORM),
            }
        }
        Ok(tunnel)
    }
}

impl fmt::Display for Tunnel {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let end = |end: &TunnelEnd| quoted(&end.to_string());
        write!(f, "{} {}", self.kind.word(), end(&self.listen))?;
        if let Some(to) = &self.to {
            write!(f, " to {}", end(to))?;
        }
        if self.wide {
            f.write_str(" wide")?;
        }
        if self.at_start {
            f.write_str(" at-start")?;
        }
        if let Some(seconds) = self.hold {
            write!(f, " hold {seconds}")?;
        }
        match &self.then {
            Some(command) => write!(f, " then {command}"),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn every_form_is_understood_and_slips_are_refused() {
        for (text, shown) in [
            ("local 8443 to 127.0.0.1:443", "local 127.0.0.1:8443 to 127.0.0.1:443"),
            ("local 0 to [::1]:443", "local 127.0.0.1:0 to [::1]:443"),
            ("remote [::1]:0 to unix:/run/fog.sock", "remote [::1]:0 to unix:/run/fog.sock"),
            ("dynamic 0.0.0.0:1080 wide", "dynamic 0.0.0.0:1080 wide"),
            (
                "local \"unix:/run/fog horn.sock\" to db.example:5432 hold 5 at-start",
                "local \"unix:/run/fog horn.sock\" to db.example:5432 at-start hold 5",
            ),
            (
                "local 3389 to 127.0.0.1:3389 then viewer --at {address}:{port} \"x\"",
                "local 127.0.0.1:3389 to 127.0.0.1:3389 then viewer --at {address}:{port} \"x\"",
            ),
        ] {
            let tunnel = Tunnel::parse(text).unwrap();
            assert_eq!(tunnel.to_string(), shown);
            assert_eq!(Tunnel::parse(shown).unwrap(), tunnel);
        }
        for text in [
            "",
            "local",
            "local 8443",
            "local 8443 to",
            "local 8443 to 443",
            "local 8443 to h:0",
            "sideways 1",
            "dynamic 1080 to h:1",
            "dynamic 99999",
            "dynamic -1",
            "local unix:fog.sock to h:1",
            "dynamic 1 then",
            "dynamic 1 then a; b",
            "dynamic 1 hold",
            "dynamic 1 hold 9999",
            "dynamic 1 wide wide",
            "dynamic 1 loud",
            "local \"1 to h:1",
            "dynamic ::1:0",
            "local a\u{7}b:1 to h:1",
        ] {
            assert!(Tunnel::parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn loopback_is_what_others_do_not_reach() {
        let listens = |text: &str| Tunnel::parse(&format!("dynamic {text}")).unwrap().listen.is_loopback();
        for near in ["1080", "127.9.9.9:1", "[::1]:1", "localhost:1", "unix:/run/x"] {
            assert!(listens(near), "{near}");
        }
        for far in ["0.0.0.0:1", "[::]:1", "192.0.2.7:1", "lamp-01.example:1"] {
            assert!(!listens(far), "{far}");
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(text in "(local|remote|dynamic|to|wide|hold|then|unix:/[a \"\\\\]{0,5}|[0-9:.a\\[\\]\" ]{0,9}|[ ]){0,9}") {
            if let Ok(tunnel) = Tunnel::parse(&text) {
                prop_assert_eq!(Tunnel::parse(&tunnel.to_string()), Ok(tunnel));
            }
        }

        #[test]
        fn any_path_and_command_survive(path in "/[^\\p{C}]{0,20}", command in "[^\\p{C} ;]{1,9}( [^\\p{C} ]{1,9})?") {
            let mut tunnel = Tunnel::new(TunnelKind::Local, TunnelEnd::Unix(path.clone()), Some(TunnelEnd::Unix(path)));
            tunnel.then = Some(command.trim().to_owned()).filter(|command| !command.is_empty());
            prop_assert_eq!(Tunnel::parse(&tunnel.to_string()), Ok(tunnel));
        }
    }
}
