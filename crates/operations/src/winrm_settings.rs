//! What the book says about machines that are spoken to by WinRM.

use std::path::PathBuf;

use lantern_book::{Effective, Field};
use lantern_link::LoginWay;

/// What the book says about a machine that is spoken to by WinRM.
#[derive(Debug, Clone, Default)]
pub struct WinrmSettings {
    /// Whether there is no TLS.
    pub plain: bool,
    /// How to log in.
    pub login: LoginWay,
    /// Whether it gets a ticket to go on with.
    pub delegate: bool,
    /// The file with a certificate of ours.
    pub certificate: Option<PathBuf>,
    /// The path of the service, where it is not the usual one.
    pub path: Option<String>,
    /// The name that its certificate must have.
    pub certificate_name: Option<String>,
    /// The name of its service for logins.
    pub service_name: Option<String>,
    /// The endpoint for sessions of PowerShell.
    pub configuration: Option<String>,
}

impl WinrmSettings {
    pub(crate) fn of(effective: &Effective<'_>) -> Self {
        let text = |field| effective.text(field).map(str::to_owned);
        Self {
            plain: effective.text(Field::Plain).is_some(),
            login: match effective.text(Field::LoginBy) {
                Some("kerberos") => LoginWay::Kerberos,
                Some("ntlm") => LoginWay::Ntlm,
                Some("basic") => LoginWay::Basic,
                Some("certificate") => LoginWay::Certificate,
                _ => LoginWay::Best,
            },
            delegate: effective.flag(Field::DelegateTicket).unwrap_or(false),
            certificate: text(Field::Certificate).map(PathBuf::from),
            path: text(Field::Path),
            certificate_name: text(Field::CertificateName),
            service_name: text(Field::ServiceName),
            configuration: text(Field::Configuration),
        }
    }
}
