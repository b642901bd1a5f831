//! What is wrong with a certificate and with those above it, without anybody who presents them.

use lantern_keys::{CertificateFault, TlsCertificate};

/// Most issuers of one name that are tried: a file could have hundreds, and each is a signature to verify.
const MAX_NAMESAKES: usize = 8;

/// A certificate of a chain, and everything that speaks against it by itself and by whoever signed it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Judged {
    /// Itself.
    pub certificate: TlsCertificate,
    /// What speaks against it.
    pub faults: Vec<CertificateFault>,
    /// Whether whoever signed it is among the others or believed here, and the signature is one that could be verified.
    pub is_verified: bool,
}

/// Judges every certificate, in its order, at this time in seconds since 1970. `known` are authorities that are believed; `wanted`, whom the first is to be
/// for, where that is said.
pub fn judge(
    chain: &[TlsCertificate],
    known: &[TlsCertificate],
    wanted: Option<&[&str]>,
    now: i64,
) -> Vec<Judged> {
    let one = |(at, certificate): (usize, &TlsCertificate)| {
        let mut faults = certificate.faults(wanted.filter(|_| at == 0).unwrap_or_default(), now);
        // Nobody said whom it is to be for.
        let about_names = |fault: &CertificateFault| {
            matches!(fault, CertificateFault::OtherName { .. } | CertificateFault::NoName { .. })
        };
        let is_authority = certificate.is_authority();
        faults.retain(|fault| match fault {
            fault if about_names(fault) => at == 0 && wanted.is_some(),
            // Authorities sign themselves, and are for no server.
            CertificateFault::SelfSigned => !is_authority,
            CertificateFault::NotForServers => wanted.is_some() && !is_authority,
            _ => true,
        });
        let issuers = chain.iter().chain(known).filter(|other| other.subject() == certificate.issuer());
        // Of several with the name, the one that did sign it counts.
        let judged = issuers.take(MAX_NAMESAKES).map(|issuer| {
            let is_verified = certificate.is_signed_by(issuer) == Some(true);
            (certificate.faults_by_issuer(issuer), is_verified)
        });
        let best = judged.min_by_key(|(faults, is_verified)| (faults.len(), !is_verified));
        let is_verified = best.as_ref().is_some_and(|(_, is_verified)| *is_verified);
        match best {
            Some((more, _)) => faults.extend(more),
            None => {
                faults.push(CertificateFault::UnknownAuthority { issuer: certificate.issuer().to_owned() })
            }
        }
        Judged { certificate: certificate.clone(), faults, is_verified }
    };
    chain.iter().enumerate().map(one).collect()
}
