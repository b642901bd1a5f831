//! A tunnel as the book stores it: `local 8443 to 127.0.0.1:443`.

use std::fmt;

use crate::check::check_address;
use crate::destination::split_port;

/// Which way a tunnel leads (the trade's words).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TunnelKind {
    /// Listens here, leads to something that the machine reaches.
    Local,
    /// Listens on the machine, leads to something that we reach.
    Remote,
    /// Listens here, leads wherever the program that uses it asks for.
    Dynamic,
}

/// A tunnel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tunnel {
    /// Which way it leads.
    pub kind: TunnelKind,
    /// Where it listens: address and port.
    pub listen: (String, u16),
    /// Where it leads; nowhere fixed for a dynamic one.
    pub to: Option<(String, u16)>,
}

/// Where a tunnel listens when only a port is given: not for the whole network.
const LOOPBACK: &str = "127.0.0.1";
const FORM: &str = "must read `local [ADDRESS:]PORT to HOST:PORT`, `remote [ADDRESS:]PORT to HOST:PORT` or `dynamic [ADDRESS:]PORT`";

impl Tunnel {
    /// Reads the form of the book.
    ///
    /// # Errors
    /// What the form must be.
    pub fn parse(text: &str) -> Result<Self, &'static str> {
        let words: Vec<&str> = text.split_whitespace().collect();
        let (kind, listen, to) = match words.as_slice() {
            ["local", listen, "to", to] => (TunnelKind::Local, listen, Some(to)),
            ["remote", listen, "to", to] => (TunnelKind::Remote, listen, Some(to)),
            ["dynamic", listen] => (TunnelKind::Dynamic, listen, None),
            _ => return Err(FORM),
        };
        let listen = match listen.parse::<u16>() {
            Ok(port) if port > 0 => (LOOPBACK.to_owned(), port),
            _ => place(listen)?,
        };
        Ok(Self { kind, listen, to: to.map(|to| place(to)).transpose()? })
    }
}

fn place(text: &str) -> Result<(String, u16), &'static str> {
    match split_port(text) {
        Some((address, Some(port))) if check_address(address).is_ok() => Ok((address.to_owned(), port)),
        _ => Err(FORM),
    }
}

impl fmt::Display for Tunnel {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let kind = match self.kind {
            TunnelKind::Local => "local",
            TunnelKind::Remote => "remote",
            TunnelKind::Dynamic => "dynamic",
        };
        write!(f, "{kind} {}", crate::place(&self.listen.0, self.listen.1))?;
        match &self.to {
            Some((host, port)) => write!(f, " to {}", crate::place(host, *port)),
            None => Ok(()),
        }
    }
}
