//! Users and services as Kerberos names them (RFC 4120 §6.2).

use std::fmt;

/// A user or a service within a realm.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Principal {
    /// The kind of name: 1 for a user, 2 for a service.
    pub kind: i32,
    /// The name's parts.
    pub parts: Vec<String>,
    /// The realm.
    pub realm: String,
}

/// The kind of a user's name.
const USER: i32 = 1;
/// The kind of a service that is found by its name and its host.
const SERVICE: i32 = 2;
/// The service that gives tickets.
const TICKETS: &str = "krbtgt";

/// Why a name is none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PrincipalError {
    /// No part before the `/`, or behind it.
    #[error("a service's name has two parts, like HTTP/chart-room.coast.example")]
    Parts,
}

impl Principal {
    /// A user.
    pub fn user(name: &str, realm: &str) -> Self {
        let parts = name.split('/').map(str::to_owned).collect();
        Self { kind: USER, parts, realm: realm.to_owned() }
    }

    /// A service, by a name like `HTTP/chart-room.coast.example`; a realm behind `@` is taken instead of `realm`.
    ///
    /// # Errors
    /// The name has not two parts.
    pub fn service(name: &str, realm: &str) -> Result<Self, PrincipalError> {
        let (name, realm) = name.rsplit_once('@').unwrap_or((name, realm));
        let parts: Vec<String> = name.split('/').map(str::to_owned).collect();
        match parts.len() >= 2 && parts.iter().all(|part| !part.is_empty()) {
            true => Ok(Self { kind: SERVICE, parts, realm: realm.to_owned() }),
            false => Err(PrincipalError::Parts),
        }
    }

    /// The service of realm `at` that gives tickets for realm `of`.
    pub fn tickets(of: &str, at: &str) -> Self {
        Self { kind: SERVICE, parts: vec![TICKETS.to_owned(), of.to_owned()], realm: at.to_owned() }
    }

    /// The realm for which this gives tickets, if that is what it does.
    pub fn gives_tickets_of(&self) -> Option<&str> {
        match self.parts.as_slice() {
            [service, realm] if service == TICKETS => Some(realm),
            _ => None,
        }
    }

    /// The name without its realm.
    pub fn name(&self) -> String {
        self.parts.join("/")
    }

    /// Whether it is the same one, whatever kind of name it is said to be.
    pub(crate) fn is(&self, other: &Self) -> bool {
        self.parts == other.parts && self.realm == other.realm
    }

    /// Whether the name is the same but for the size of letters, which domains of Windows do not tell apart; the realm may be another.
    pub fn is_named_like(&self, other: &Self) -> bool {
        self.name().eq_ignore_ascii_case(&other.name())
    }

    /// What is added to a password, unless the centre says otherwise (§4): the realm and the name's parts.
    pub fn salt(&self) -> String {
        std::iter::once(self.realm.as_str()).chain(self.parts.iter().map(String::as_str)).collect()
    }
}

impl fmt::Display for Principal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.name(), self.realm)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn names_are_taken_apart() {
        let service = Principal::service("HTTP/chart-room.coast.example", "COAST.EXAMPLE").unwrap();
        assert_eq!(service.to_string(), "HTTP/chart-room.coast.example@COAST.EXAMPLE");
        assert_eq!(
            Principal::service("HTTP/a@INLAND.EXAMPLE", "COAST.EXAMPLE").unwrap().realm,
            "INLAND.EXAMPLE"
        );
        for wrong in ["", "HTTP", "HTTP/", "/a", "a//b"] {
            assert_eq!(Principal::service(wrong, "R"), Err(PrincipalError::Parts));
        }
        assert_eq!(Principal::tickets("B", "A").gives_tickets_of(), Some("B"));
        assert_eq!(service.gives_tickets_of(), None);
        assert_eq!(Principal::user("keeper", "COAST.EXAMPLE").salt(), "COAST.EXAMPLEkeeper");
    }
}
