//! A proxy as the book stores it: a URI without a password.

use crate::check::{check_address, check_user};
use crate::destination::split_port;

/// What a proxy speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProxyKind {
    /// The CONNECT method of HTTP (RFC 9110 §9.3.6).
    Http,
    /// SOCKS version 5 (RFC 1928).
    Socks5,
}

/// A proxy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proxy {
    /// What it speaks.
    pub kind: ProxyKind,
    /// The user that it wants to know; its password is asked for.
    pub user: Option<String>,
    /// Where it is.
    pub address: String,
    /// And at which port.
    pub port: u16,
}

impl Proxy {
    /// Reads `http://user@address:port` or `socks5://user@address:port`.
    ///
    /// # Errors
    /// What it must be, in words that follow the value.
    pub fn parse(text: &str) -> Result<Self, &'static str> {
        const FORM: &str = "must read http://address:port or socks5://address:port, with user@ in front of the address if it wants one";
        let (scheme, rest) = text.split_once("://").ok_or(FORM)?;
        let (kind, usual_port) = match scheme {
            "http" => (ProxyKind::Http, 3128),
            "socks5" => (ProxyKind::Socks5, 1080),
            _ => return Err(FORM),
        };
        let (user, place) = match rest.trim_end_matches('/').rsplit_once('@') {
            Some((user, _)) if user.contains(':') => {
                return Err(
                    "must not contain a password; it is asked for, or read from --proxy-password-from",
                );
            }
            Some((user, place)) => (Some(user.to_owned()), place),
            None => (None, rest.trim_end_matches('/')),
        };
        if let Some(user) = &user {
            check_user(user)?;
        }
        let (address, port) = split_port(place).ok_or(FORM)?;
        check_address(address)?;
        Ok(Self { kind, user, address: address.to_owned(), port: port.unwrap_or(usual_port) })
    }

    /// Where it is, as one word.
    pub fn place(&self) -> String {
        crate::place(&self.address, self.port)
    }
}
