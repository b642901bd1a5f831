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
    /// Whether whoever signed it is among the others, or is believed here.
    pub has_issuer: bool,
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
        let judged = issuers.take(MAX_NAMESAKES).map(|issuer| certificate.faults_by_issuer(issuer));
        let best = judged.min_by_key(Vec::len);
        let has_issuer = best.is_some();
        match best {
            Some(more) => faults.extend(more),
            None => {
                faults.push(CertificateFault::UnknownAuthority { issuer: certificate.issuer().to_owned() })
            }
        }
        Judged { certificate: certificate.clone(), faults, has_issuer }
    };
    chain.iter().enumerate().map(one).collect()
}
