//! Certificates of TLS: authorities for one's own machines, and what they sign for machines and users.

mod audit;
mod make;
mod wrong;

use lantern_keys::CertificateName;

use crate::Target;

pub use audit::{Audited, Standing, audit};
pub use make::{Holder, Issue, MakeError, NewAuthority, issue, new_authority, renew};
pub use wrong::{Judged, judge};

/// What a machine's certificate is for: the name that the book says it has, what is dialed, and what it is called.
pub fn names_of(name: &str, target: Option<&Target>) -> Vec<CertificateName> {
    let mut names: Vec<String> = Vec::new();
    if let Some(target) = target {
        names.extend(target.winrm.certificate_name.clone());
        names.extend(target.addresses.iter().cloned());
    }
    names.push(name.to_owned());
    let mut seen = std::collections::BTreeSet::new();
    names.retain(|name| seen.insert(name.clone()));
    names.iter().map(|name| certificate_name(name)).collect()
}

/// A name or an address, as a certificate has it.
pub fn certificate_name(text: &str) -> CertificateName {
    match text.parse() {
        Ok(address) => CertificateName::Ip(address),
        Err(_) => CertificateName::Dns(text.to_owned()),
    }
}

/// A principal name, by which Windows knows a user: what has no place is of the machine itself.
pub fn principal_name(user: &str) -> String {
    if user.contains('@') { user.to_owned() } else { format!("{user}@localhost") }
}
