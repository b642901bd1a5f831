//! A machine: what the book says about one.

use serde::{Deserialize, Serialize};

use crate::BookError;

/// The port of RFC 4250 §4.
pub const DEFAULT_SSH_PORT: u16 = 22;

/// What the book says about a machine. Unknown fields are an error, so that a slip of the pen is noticed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Machine {
    /// A host name or an IP address.
    pub address: String,
    /// The port; 22 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// The user to log in as.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The key of the ring to offer; all of them when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Whether it may ask the agent for signatures during a session; each one wants a person's yes.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub forward_agent: bool,
    /// Words to select it by.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// Free words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

impl Machine {
    /// Its port, given or standard.
    pub fn effective_port(&self) -> u16 {
        self.port.unwrap_or(DEFAULT_SSH_PORT)
    }

    /// Checks every field.
    ///
    /// # Errors
    /// [`BookError::BadValue`] for the first that is not acceptable.
    pub fn check(&self) -> Result<(), BookError> {
        check_address(&self.address)?;
        if let Some(user) = &self.user {
            check_user(user)?;
        }
        if let Some(key) = &self.key {
            check_name("key name", key)?;
        }
        if self.port == Some(0) {
            return Err(bad("port", "0", "must be between 1 and 65535"));
        }
        self.tags.iter().try_for_each(|tag| check_name("tag", tag))
    }
}

fn bad(what: &'static str, value: &str, rule: &'static str) -> BookError {
    BookError::BadValue { what, value: value.chars().take(100).collect(), rule }
}

/// Names of machines, keys and tags: they appear in selections, file names and URIs, so they are plain.
///
/// # Errors
/// [`BookError::BadValue`].
pub fn check_name(what: &'static str, name: &str) -> Result<(), BookError> {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    if name.is_empty() || name.len() > 64 || !name.starts_with(|c: char| c.is_ascii_alphanumeric()) {
        return Err(bad(what, name, "must have 1 to 64 characters and start with a letter or digit"));
    }
    if !name.chars().all(plain) {
        return Err(bad(what, name, "must consist of letters, digits, `-`, `_` and `.`"));
    }
    Ok(())
}

/// A host name or an IP address, without port or brackets.
pub(crate) fn check_address(address: &str) -> Result<(), BookError> {
    let allowed = |c: char| c.is_alphanumeric() || "-_.:%".contains(c);
    if address.is_empty() || address.len() > 255 || !address.chars().all(allowed) || address.starts_with('-')
    {
        return Err(bad("address", address, "must be a host name or an IP address"));
    }
    if address.contains(':') && address.parse::<std::net::Ipv6Addr>().is_err() && !address.contains('%') {
        return Err(bad("address", address, "must not contain a port; set `port` instead"));
    }
    Ok(())
}

/// A user name: whatever the machine takes, within reason.
pub(crate) fn check_user(user: &str) -> Result<(), BookError> {
    if user.is_empty() || user.len() > 255 || user.chars().any(char::is_control) {
        return Err(bad("user", user, "must have 1 to 255 printable characters"));
    }
    Ok(())
}
