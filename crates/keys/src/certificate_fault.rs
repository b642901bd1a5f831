//! Whom a certificate of TLS names, and what can be wrong with one.

use std::fmt;
use std::net::IpAddr;

/// Whom a certificate is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateName {
    /// A host name, maybe with `*` as its first label.
    Dns(String),
    /// An address.
    Ip(IpAddr),
}

impl CertificateName {
    /// Whether this name, as it was dialed, is meant (RFC 9525 §6.3).
    pub(crate) fn is_for(&self, wanted: &str) -> bool {
        match self {
            Self::Ip(address) => wanted.parse() == Ok(*address),
            Self::Dns(name) => {
                let (name, wanted) = (name.trim_end_matches('.'), wanted.trim_end_matches('.'));
                match (name.strip_prefix("*."), wanted.split_once('.')) {
                    (Some(domain), Some((label, rest))) => {
                        !label.is_empty() && rest.eq_ignore_ascii_case(domain)
                    }
                    (Some(_), None) => false,
                    (None, _) => name.eq_ignore_ascii_case(wanted),
                }
            }
        }
    }
}

impl fmt::Display for CertificateName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Dns(name) => f.write_str(name),
            Self::Ip(address) => write!(f, "{address}"),
        }
    }
}

/// One thing that is wrong with a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum CertificateFault {
    /// It signed itself: nobody else vouches for it.
    SelfSigned,
    /// Whoever signed it is not known here.
    UnknownAuthority {
        /// Its issuer.
        issuer: String,
    },
    /// It is valid only later.
    NotYet {
        /// From then on, in seconds since 1970.
        from: i64,
    },
    /// It is not valid any more.
    Expired {
        /// Since then, in seconds since 1970.
        since: i64,
    },
    /// It names others than whom we dialed.
    OtherName {
        /// Whom we dialed.
        wanted: String,
        /// Whom it names.
        names: Vec<CertificateName>,
    },
    /// It names nobody; its subject is not looked at (RFC 9525 §2).
    NoName {
        /// The subject.
        subject: String,
    },
    /// Its signature is not of whoever is said to have issued it.
    NotSignedBy {
        /// The issuer.
        issuer: String,
    },
    /// Whoever issued it may not issue any.
    IssuerIsNoAuthority {
        /// The issuer.
        issuer: String,
    },
    /// Whoever issued it may not vouch for its names.
    OutsideConstraints {
        /// The issuer.
        issuer: String,
        /// The names.
        names: Vec<CertificateName>,
    },
    /// It is not for servers.
    NotForServers,
    /// Its key can be broken.
    WeakKey {
        /// What it is.
        key: String,
    },
    /// Its signature can be forged.
    WeakSignature {
        /// The hash.
        hash: &'static str,
    },
}

impl CertificateFault {
    /// Whether it says that nobody vouches for it here.
    pub fn is_about_authority(&self) -> bool {
        matches!(self, Self::SelfSigned | Self::UnknownAuthority { .. })
    }
}
