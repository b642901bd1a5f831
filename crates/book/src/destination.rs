//! What a user types for MACHINE: a name in the book, or a one-off.

use crate::BookError;
use crate::check::{check_address, check_name_of, check_user};

/// The port of SSH (RFC 4250 §4).
pub const DEFAULT_SSH_PORT: u16 = 22;
/// The port of WinRM over TLS: what lantern uses unless told otherwise.
pub const DEFAULT_WINRM_PORT: u16 = 5986;
/// The port of WinRM without TLS.
pub const PLAIN_WINRM_PORT: u16 = 5985;

/// How a machine is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Protocol {
    /// SSH.
    #[default]
    Ssh,
    /// WinRM.
    Winrm,
}

/// A machine as typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Destination {
    /// A name to look up in the book.
    Named(String),
    /// Not in the book.
    OneOff(OneOff),
}

/// `user@address:port`, `ssh://user@address:port` or `winrm://user@address:port`, each part but the address optional.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OneOff {
    /// How it is spoken to.
    pub protocol: Protocol,
    /// The user, when given.
    pub user: Option<String>,
    /// Host name or IP address, without brackets.
    pub address: String,
    /// The port, given or standard.
    pub port: u16,
}

impl Destination {
    /// Reads what was typed. A word with `@`, `:` or a scheme is a one-off, anything else a name.
    ///
    /// # Errors
    /// [`BookError::BadValue`].
    pub fn parse(text: &str) -> Result<Self, BookError> {
        let bad = |rule| BookError::bad("machine", text, rule);
        let mut protocol = Protocol::Ssh;
        let rest = match text.split_once("://") {
            Some(("ssh", rest)) => rest.trim_end_matches('/'),
            Some(("winrm", rest)) => {
                protocol = Protocol::Winrm;
                rest.trim_end_matches('/')
            }
            Some(_) => return Err(bad("has a scheme other than ssh:// and winrm://")),
            None if !text.contains(['@', ':']) => {
                check_name_of("machine", text)?;
                return Ok(Self::Named(text.to_owned()));
            }
            None => text,
        };
        let (user, host) = match rest.rsplit_once('@') {
            Some((user, host)) => (Some(user.to_owned()), host),
            None => (None, rest),
        };
        if let Some(user) = &user {
            check_user(user).map_err(|rule| BookError::bad("user", user, rule))?;
        }
        let (address, port) = split_port(host).ok_or_else(|| bad("has a port that is no port"))?;
        check_address(address).map_err(|rule| BookError::bad("address", address, rule))?;
        let usual = match protocol {
            Protocol::Ssh => DEFAULT_SSH_PORT,
            Protocol::Winrm => DEFAULT_WINRM_PORT,
        };
        Ok(Self::OneOff(OneOff { protocol, user, address: address.to_owned(), port: port.unwrap_or(usual) }))
    }
}

/// Splits `host:port`, `[v6]:port`, `host` or a bare IPv6 address.
pub(crate) fn split_port(host: &str) -> Option<(&str, Option<u16>)> {
    let port = |text: &str| text.parse::<u16>().ok().filter(|port| *port != 0);
    if let Some(rest) = host.strip_prefix('[') {
        let (address, rest) = rest.split_once(']')?;
        return match rest.strip_prefix(':') {
            Some(text) => Some((address, Some(port(text)?))),
            None if rest.is_empty() => Some((address, None)),
            None => None,
        };
    }
    match host.split_once(':') {
        None => Some((host, None)),
        Some((_, rest)) if rest.contains(':') => Some((host, None)),
        Some((address, text)) => Some((address, Some(port(text)?))),
    }
}

impl OneOff {
    /// Address and port as one word, which also names the machine in the trust store.
    pub fn place(&self) -> String {
        place(&self.address, self.port)
    }
}

/// `address:port`, with brackets around IPv6: how a place is written everywhere.
pub fn place(address: &str, port: u16) -> String {
    if address.contains(':') { format!("[{address}]:{port}") } else { format!("{address}:{port}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_is_understood_and_slips_are_refused() {
        let one_off = |user: Option<&str>, address: &str, port| {
            Destination::OneOff(OneOff {
                protocol: Protocol::Ssh,
                user: user.map(str::to_owned),
                address: address.into(),
                port,
            })
        };
        for (text, expected) in [
            ("lamp-01", Destination::Named("lamp-01".into())),
            ("keeper@192.0.2.7", one_off(Some("keeper"), "192.0.2.7", 22)),
            ("192.0.2.7:2222", one_off(None, "192.0.2.7", 2222)),
            ("keeper@foghorn.example:2222", one_off(Some("keeper"), "foghorn.example", 2222)),
            ("ssh://keeper@foghorn.example:2222/", one_off(Some("keeper"), "foghorn.example", 2222)),
            ("keeper@[2001:db8::7]:2222", one_off(Some("keeper"), "2001:db8::7", 2222)),
            ("keeper@2001:db8::7", one_off(Some("keeper"), "2001:db8::7", 22)),
            ("a@b@foghorn.example", one_off(Some("a@b"), "foghorn.example", 22)),
        ] {
            assert_eq!(Destination::parse(text).unwrap(), expected, "{text}");
        }
        for text in [
            "",
            "lamp 01",
            "@192.0.2.7",
            "192.0.2.7:0",
            "192.0.2.7:99999",
            "ftp://x",
            "[2001:db8::7",
            "-x@y:1z",
        ] {
            assert!(Destination::parse(text).is_err(), "{text}");
        }
    }
}
