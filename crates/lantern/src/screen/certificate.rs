//! What a certificate of TLS says, and what is wrong with it, in words.

use jiff::Timestamp;
use lantern_keys::{CertificateFault, CertificateName, TlsCertificate};

use crate::screen::fit::{Fit, fit};

/// Most names of a certificate that are shown.
const MAX_NAMES: usize = 6;

/// Some lines about a certificate: whom it is for, who issued it, from when to when; and everything that speaks against it.
pub(crate) fn describe(certificate: &TlsCertificate, faults: &[CertificateFault]) -> Fit {
    let mut text = fit!(
        "  For {}; issued by {}; valid {}. Its thumbprint (SHA-1, weak) is {}.\n",
        names(certificate),
        issuer(certificate),
        validity(certificate),
        certificate.thumbprint(),
    );
    if !faults.is_empty() {
        text.push(Fit::literal("  What speaks against it:\n"));
        for fault in faults {
            text.push(fit!("    - {}\n", words(fault)));
        }
    }
    text.push(Fit::literal("\n"));
    text
}

/// Who issued it.
pub(crate) fn issuer(certificate: &TlsCertificate) -> String {
    match certificate.is_self_issued() {
        true => "itself".to_owned(),
        false => certificate.issuer().to_owned(),
    }
}

/// From when to when it is valid.
pub(crate) fn validity(certificate: &TlsCertificate) -> String {
    let (from, until) = certificate.validity();
    format!("from {} to {}", day(from), day(until))
}

/// Whom it is for, whatever it is: machines, a user, or those whom an authority signs.
pub(crate) fn holder(certificate: &TlsCertificate) -> String {
    match (certificate.names(), certificate.principal(), certificate.is_authority()) {
        ([], Some(principal), _) => principal.to_owned(),
        ([], None, true) => format!("{}, and those whom it signs", certificate.subject()),
        _ => names(certificate),
    }
}

/// What it may be used for.
pub(crate) fn uses(certificate: &TlsCertificate) -> String {
    match (certificate.is_authority(), certificate.uses()) {
        (true, None) => "signing others".to_owned(),
        (true, Some(uses)) => format!("signing others; {}", uses.join(", ")),
        (false, Some(uses)) => uses.join(", "),
        (false, None) => "everything: it does not say".to_owned(),
    }
}

/// Whom it is for.
pub(crate) fn names(certificate: &TlsCertificate) -> String {
    match certificate.names() {
        [] => format!("{} (by its subject alone)", certificate.subject()),
        names => list(names),
    }
}

fn list(names: &[CertificateName]) -> String {
    let shown: Vec<String> = names.iter().take(MAX_NAMES).map(ToString::to_string).collect();
    match names.len().saturating_sub(MAX_NAMES) {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

/// A day, as it is in UTC.
pub(crate) fn day(seconds: i64) -> String {
    Timestamp::from_second(seconds)
        .map_or_else(|_| "a day that no calendar has".into(), |at| at.strftime("%Y-%m-%d").to_string())
}

/// One thing that is wrong, in words.
pub(crate) fn words(fault: &CertificateFault) -> String {
    match fault {
        CertificateFault::SelfSigned => "it signed itself: nobody else vouches for it".into(),
        CertificateFault::UnknownAuthority { issuer } => {
            format!("whoever signed it is not known here: {issuer}")
        }
        CertificateFault::NotYet { from } => {
            format!("it is valid only from {} on: is a clock wrong?", day(*from))
        }
        CertificateFault::Expired { since } => format!("it ended on {}", day(*since)),
        CertificateFault::OtherName { wanted, names } => {
            format!("it is for {}, and not for {wanted}", list(names))
        }
        CertificateFault::NoName { subject } => {
            format!("it names nobody in a way that counts, only its subject {subject}")
        }
        CertificateFault::NotSignedBy { issuer } => {
            format!("its signature is not made by {issuer}, which it names as its issuer")
        }
        CertificateFault::IssuerIsNoAuthority { issuer } => {
            format!("whoever signed it may not sign others: {issuer}")
        }
        CertificateFault::OutsideConstraints { issuer, names } => {
            format!("{issuer} may not vouch for {}", list(names))
        }
        CertificateFault::NotForServers => "it is not meant for servers".into(),
        CertificateFault::WeakKey { key } => format!("its key is weak: {key}"),
        CertificateFault::WeakSignature { hash } => format!("its signature is weak: {hash}"),
        _ => "something else is wrong with it".into(),
    }
}

/// The same in a word, for programs.
pub(crate) fn word(fault: &CertificateFault) -> &'static str {
    match fault {
        CertificateFault::SelfSigned => "self-signed",
        CertificateFault::UnknownAuthority { .. } => "unknown-authority",
        CertificateFault::NotYet { .. } => "not-yet-valid",
        CertificateFault::Expired { .. } => "expired",
        CertificateFault::OtherName { .. } => "other-name",
        CertificateFault::NoName { .. } => "no-name",
        CertificateFault::NotSignedBy { .. } => "not-signed-by-issuer",
        CertificateFault::IssuerIsNoAuthority { .. } => "issuer-no-authority",
        CertificateFault::OutsideConstraints { .. } => "outside-constraints",
        CertificateFault::NotForServers => "not-for-servers",
        CertificateFault::WeakKey { .. } => "weak-key",
        CertificateFault::WeakSignature { .. } => "weak-signature",
        _ => "other",
    }
}
