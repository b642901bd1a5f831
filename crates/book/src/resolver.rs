//! A resolver whose word on host keys is believed. It says by a bit that it validated an answer, and nothing protects that bit on its way (RFC 4035
//! §4.9.3): so it is one on this computer, or it is called by what it is.

use std::net::{IpAddr, SocketAddr};

/// What goes before the address of a resolver that is not on this computer.
const UNPROTECTED: &str = "unprotected:";

/// A resolver.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Resolver {
    /// Where it answers.
    pub address: SocketAddr,
    /// Whether it is believed although anybody on the way could forge what it says.
    pub is_unprotected: bool,
}

impl Resolver {
    /// Reads an IP address, with the port of DNS when none is given; none when it is none.
    pub fn parse(text: &str) -> Option<Self> {
        let (is_unprotected, address) = match text.strip_prefix(UNPROTECTED) {
            Some(address) => (true, address),
            None => (false, text),
        };
        let usual = || Some(SocketAddr::new(address.parse::<IpAddr>().ok()?, 53));
        let address = address.parse::<SocketAddr>().ok().or_else(usual)?;
        Some(Self { address, is_unprotected: is_unprotected && !address.ip().is_loopback() })
    }

    /// Whether what it says can be believed.
    pub fn is_believed(&self) -> bool {
        self.is_unprotected || self.address.ip().is_loopback()
    }
}

#[cfg(test)]
mod tests {
    use super::Resolver;
    use crate::check::check_resolver;

    #[test]
    fn only_what_is_here_is_believed_without_a_word() {
        for (text, good, unprotected) in [
            ("127.0.0.1", true, false),
            ("127.0.0.53:5353", true, false),
            ("[::1]:53", true, false),
            ("::1", true, false),
            ("192.0.2.53", false, false),
            ("[2001:db8::53]:53", false, false),
            ("unprotected:192.0.2.53", true, true),
            ("unprotected:[2001:db8::53]:5353", true, true),
            ("unprotected:127.0.0.1", true, false),
            ("unprotected:", false, false),
            ("resolver.example", false, false),
            ("unprotected:resolver.example", false, false),
        ] {
            assert_eq!(check_resolver(text).is_ok(), good, "{text}");
            let parsed = Resolver::parse(text);
            assert_eq!(parsed.is_some_and(|resolver| resolver.is_believed()), good, "{text}");
            assert_eq!(parsed.is_some_and(|resolver| resolver.is_unprotected), unprotected, "{text}");
        }
    }
}
