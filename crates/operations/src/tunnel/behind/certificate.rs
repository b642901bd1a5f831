//! What a TLS certificate says, as far as a person wants to know before opening a page.

use lantern_keys::TlsCertificate;
use lantern_ssh::neutralize_line;
use serde::{Deserialize, Serialize};

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
        let certificate = TlsCertificate::read(der).ok()?;
        let clean = |text: &str| neutralize_line(text, MAX_NAME);
        Some(Self {
            name: clean(&certificate.holder()),
            issuer: (!certificate.is_self_issued()).then(|| clean(certificate.issuer())),
            not_after: certificate.validity().1,
        })
    }

    /// Whole days until it ends, at this time in seconds since 1970; less than 0 when it has.
    pub fn days_left(&self, now: i64) -> i64 {
        self.not_after.saturating_sub(now).div_euclid(24 * 3600)
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
