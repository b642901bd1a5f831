//! What a TLS certificate says, as far as a person wants to know before opening a page.

use lantern_ssh::neutralize_line;
use serde::{Deserialize, Serialize};
use x509_cert::Certificate;
use x509_cert::der::Decode;
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::ext::pkix::name::GeneralName;

/// Longest name that is kept, in bytes: a host name has 253.
const MAX_NAME: usize = 253;

/// What a certificate says. Nothing in it was verified.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CertificateFacts {
    /// Whom it is for: its first name, else its subject.
    pub name: String,
    /// Who issued it; none: whoever it is for.
    pub issuer: Option<String>,
    /// When it ends, in seconds since 1970.
    pub not_after: i64,
}

impl CertificateFacts {
    /// Reads them.
    pub(super) fn read(der: &[u8]) -> Option<Self> {
        let certificate = Certificate::from_der(der).ok()?;
        let certificate = certificate.tbs_certificate();
        let names = certificate.get_extension::<SubjectAltName>().ok().flatten();
        let first = names.and_then(|(_, names)| names.0.iter().find_map(shown));
        let subject = certificate.subject();
        let issuer = certificate.issuer();
        let clean = |text: &str| neutralize_line(text, MAX_NAME);
        let end = certificate.validity().not_after.to_unix_duration();
        Some(Self {
            name: clean(&first.unwrap_or_else(|| subject.to_string())),
            issuer: (subject != issuer).then(|| clean(&issuer.to_string())),
            not_after: i64::try_from(end.as_secs()).unwrap_or(i64::MAX),
        })
    }

    /// Whole days until it ends, at this time in seconds since 1970; less than 0 when it has.
    pub fn days_left(&self, now: i64) -> i64 {
        self.not_after.saturating_sub(now).div_euclid(24 * 3600)
    }
}

fn shown(name: &GeneralName) -> Option<String> {
    match name {
        GeneralName::DnsName(name) => Some(name.to_string()),
        GeneralName::IpAddress(bytes) => match bytes.as_bytes() {
            four if four.len() == 4 => Some(std::net::Ipv4Addr::from(*four.first_chunk::<4>()?).to_string()),
            six => Some(std::net::Ipv6Addr::from(*six.first_chunk::<16>()?).to_string()),
        },
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn days_are_whole_and_count_down() {
        let facts = CertificateFacts { name: "x".into(), issuer: None, not_after: 10 * 86_400 };
        assert_eq!([0, 86_399, 86_400, 864_001].map(|now| facts.days_left(now)), [10, 9, 9, -1]);
    }

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>) {
            let _ = CertificateFacts::read(&bytes);
        }
    }
}
