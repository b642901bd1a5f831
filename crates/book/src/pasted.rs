//! What was understood of a pasted text.

use crate::check::{check_address, check_user};
use crate::destination::split_port;
use crate::{BookError, Field, FieldValue, Protocol, Settings};

/// What was understood of a pasted text.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Pasted {
    /// How the machine is spoken to.
    pub protocol: Protocol,
    /// Where it is; the public address first where a text has several.
    pub addresses: Vec<String>,
    /// The port.
    pub port: Option<u16>,
    /// The user.
    pub user: Option<String>,
    /// A key file on this computer.
    pub key_file: Option<String>,
    /// The gateways, the nearest first.
    pub gateways: Vec<String>,
    /// What it is called, where the text says so.
    pub name: Option<String>,
    /// Words that look as if they meant something, and were not understood.
    pub left_over: Vec<String>,
    /// Other readings of the text that would make sense, in words.
    pub doubts: Vec<String>,
}

impl Pasted {
    /// Why nobody should act on it unseen: words left over, or other readings. None when all of it was understood in one way.
    pub fn doubt(&self) -> Option<String> {
        let left_over = match self.left_over.is_empty() {
            true => None,
            false => Some(format!("not understood: {}", self.left_over.join(" "))),
        };
        let doubts: Vec<String> = left_over.into_iter().chain(self.doubts.iter().cloned()).collect();
        (!doubts.is_empty()).then(|| doubts.join("; "))
    }

    /// The same as settings of a machine; the key file is for the ring to take in first.
    ///
    /// # Errors
    /// A value that no machine can have.
    pub fn settings(&self) -> Result<Settings, BookError> {
        let mut settings = Settings::new().with(Field::Address, FieldValue::List(self.addresses.clone()))?;
        if let Some(port) = self.port {
            settings = settings.with(Field::Port, FieldValue::Number(port.into()))?;
        }
        if self.protocol == Protocol::Winrm {
            settings = settings.with_text(Field::Protocol, "winrm")?;
        }
        if let Some(user) = &self.user {
            settings = settings.with(Field::User, FieldValue::Text(user.clone()))?;
        }
        if !self.gateways.is_empty() {
            settings = settings.with(Field::Gateway, FieldValue::List(self.gateways.clone()))?;
        }
        Ok(settings)
    }

    pub(crate) fn at(place: &str) -> Option<Self> {
        let (user, host) = match place.rsplit_once('@') {
            Some((user, host)) => (Some(user.to_owned()), host),
            None => (None, place),
        };
        let (address, port) = split_port(host)?;
        check_address(address).ok()?;
        if let Some(user) = &user {
            check_user(user).ok()?;
        }
        Some(Self { addresses: vec![address.to_owned()], port, user, ..Self::default() })
    }
}
