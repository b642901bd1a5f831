//! How any machine is reached for what both protocols have.

use lantern_book::{Home, Protocol};
use lantern_link::{LoginWay, RemoteRequest, WinrmRequest};

use crate::{ReachError, ReachOptions, Target};

impl Target {
    /// Everything that a connection needs to know, by whichever protocol the machine is spoken to.
    ///
    /// # Errors
    /// No user to log in as; an option or a setting that makes no sense.
    pub fn remote_request(&self, home: &Home, options: &ReachOptions) -> Result<RemoteRequest, ReachError> {
        let way = self.way(home, options, self.keys(options), false)?;
        match self.protocol {
            Protocol::Ssh => Ok(RemoteRequest::Ssh(Box::new(way))),
            Protocol::Winrm if self.winrm.plain && self.winrm.login == LoginWay::Basic => {
                Err(ReachError::ClearPassword { machine: self.name.clone() })
            }
            Protocol::Winrm if self.winrm.plain && self.winrm.login == LoginWay::Certificate => {
                Err(ReachError::NoTls { machine: self.name.clone() })
            }
            Protocol::Winrm
                if self.winrm.certificate.is_none() && self.winrm.login == LoginWay::Certificate =>
            {
                Err(ReachError::NoCertificate { machine: self.name.clone() })
            }
            Protocol::Winrm => {
                let usual = WinrmRequest::new(way);
                Ok(RemoteRequest::Winrm(Box::new(WinrmRequest {
                    tls: !self.winrm.plain,
                    path: self.winrm.path.clone().unwrap_or(usual.path),
                    certificate_names: self.winrm.certificate_name.iter().cloned().collect(),
                    service_name: self.winrm.service_name.clone(),
                    login: self.winrm.login,
                    kerberos: options.kerberos.clone(),
                    user_is_said: self.said_user(options).is_some(),
                    delegate: self.winrm.delegate,
                    own_certificate: self.winrm.certificate.clone(),
                    ..usual
                })))
            }
        }
    }
}
