//! Machines that are spoken to by WinRM: what the book says about them, and how any machine is reached for what both protocols have.

use lantern_book::{Effective, Field, Home, Protocol};
use lantern_link::{LoginWay, RemoteRequest, WinrmRequest};

use crate::{ReachError, ReachOptions, Target};

/// Where the service is, unless the book says otherwise (MS-WSMV 2.1).
const USUAL_PATH: &str = "/wsman";
/// The language of machines' messages: what we know, we say in our own words, and the rest is looked up in this one.
const LANGUAGE: &str = "en-US";

/// What the book says about a machine that is spoken to by WinRM.
#[derive(Debug, Clone, Default)]
pub struct WinrmSettings {
    /// Whether there is no TLS.
    pub plain: bool,
    /// Whether the password is sent as it is.
    pub basic: bool,
    /// The path of the service, where it is not the usual one.
    pub path: Option<String>,
    /// The name that its certificate must have.
    pub certificate_name: Option<String>,
    /// The name of its service for logins.
    pub service_name: Option<String>,
}

impl WinrmSettings {
    pub(crate) fn of(effective: &Effective<'_>) -> Self {
        let text = |field| effective.text(field).map(str::to_owned);
        Self {
            plain: effective.text(Field::Plain).is_some(),
            basic: effective.text(Field::Login) == Some("basic"),
            path: text(Field::Path),
            certificate_name: text(Field::CertificateName),
            service_name: text(Field::ServiceName),
        }
    }
}

impl Target {
    /// Everything that a connection needs to know, by whichever protocol the machine is spoken to.
    ///
    /// # Errors
    /// No user to log in as; an option or a setting that makes no sense.
    pub fn remote_request(&self, home: &Home, options: &ReachOptions) -> Result<RemoteRequest, ReachError> {
        let way = self.way(home, options, self.keys(options), false)?;
        match self.protocol {
            Protocol::Ssh => Ok(RemoteRequest::Ssh(Box::new(way))),
            Protocol::Winrm if self.winrm.plain && self.winrm.basic => {
                Err(ReachError::ClearPassword { machine: self.name.clone() })
            }
            Protocol::Winrm => Ok(RemoteRequest::Winrm(Box::new(WinrmRequest {
                way,
                tls: !self.winrm.plain,
                path: self.winrm.path.clone().unwrap_or_else(|| USUAL_PATH.to_owned()),
                certificate_names: self.winrm.certificate_name.iter().cloned().collect(),
                service_name: self.winrm.service_name.clone(),
                login: if self.winrm.basic { LoginWay::Basic } else { LoginWay::Ntlm },
                language: LANGUAGE.to_owned(),
            }))),
        }
    }
}
