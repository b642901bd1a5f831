//! All certificates that this computer made or trusts, the one that ends first, first.

use lantern_book::{BookError, CertificateStore, Home, KnownCertificate, StoredCertificate, TrustStore};
use lantern_keys::{CertificateFault, Fingerprint, TlsCertificate};

/// Days before its end at which a certificate is to be made anew: a month leaves time to carry it somewhere.
const SOON: i64 = 30;

/// Where a certificate comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// It was made here, and is called so.
    Made(String),
    /// Machines present it.
    Presented(Vec<String>),
    /// Its word is believed about machines.
    Believed(Vec<String>),
}

/// A certificate that somebody relies on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Audited {
    /// Itself.
    pub certificate: TlsCertificate,
    /// Where it comes from.
    pub standing: Vec<Standing>,
    /// What is wrong with it by itself.
    pub faults: Vec<CertificateFault>,
    /// Whole days until it ends; less than 0 when it has.
    pub days_left: i64,
    /// Why it was revoked.
    pub revoked: Option<String>,
}

impl Audited {
    /// Whether something is to be done about it.
    pub fn needs_attention(&self) -> bool {
        self.days_left < SOON || self.revoked.is_some() || !self.faults.is_empty()
    }
}

/// Looks at all of them, at this time in seconds since 1970; with files that cannot be read, each with its error.
///
/// # Errors
/// The store as a whole cannot be read.
pub fn audit(home: &Home, now: i64) -> Result<(Vec<Audited>, Vec<BookError>), BookError> {
    let trust = TrustStore::load(home)?;
    let mut all: Vec<(Fingerprint, Audited)> = Vec::new();
    let mut broken = Vec::new();
    let mut add = |certificate: &TlsCertificate, standing: Standing| {
        let fingerprint = certificate.fingerprint();
        if let Some((_, found)) = all.iter_mut().find(|(known, _)| *known == fingerprint) {
            merge(&mut found.standing, standing);
            return;
        }
        let mut faults = certificate.faults(&[], now);
        faults.retain(|fault| {
            matches!(
                fault,
                CertificateFault::WeakKey { .. }
                    | CertificateFault::WeakSignature { .. }
                    | CertificateFault::NotYet { .. }
                    | CertificateFault::Expired { .. }
            )
        });
        let revoked = trust.is_revoked(&fingerprint).map(|revoked| revoked.reason.clone());
        let days_left = certificate.days_left(now);
        all.push((
            fingerprint,
            Audited {
                certificate: certificate.clone(),
                standing: vec![standing],
                faults,
                days_left,
                revoked,
            },
        ));
    };
    for stored in CertificateStore::new(home).all()? {
        match stored {
            Ok(StoredCertificate { name, certificate, .. }) => add(&certificate, Standing::Made(name)),
            Err(error) => broken.push(error),
        }
    }
    for machine in trust.machines() {
        let Some(record) = trust.get(machine)? else { continue };
        let read = |known: &KnownCertificate| TlsCertificate::read(&known.der).ok();
        for certificate in record.certificates.iter().filter_map(read) {
            add(&certificate, Standing::Presented(vec![machine.to_owned()]));
        }
        for authority in record.authorities.iter().filter_map(read) {
            add(&authority, Standing::Believed(vec![machine.to_owned()]));
        }
    }
    let mut all: Vec<Audited> = all.into_iter().map(|(_, audited)| audited).collect();
    all.sort_by_key(|audited| audited.certificate.validity().1);
    Ok((all, broken))
}

/// Adds to what stands there already of the same kind.
fn merge(standing: &mut Vec<Standing>, more: Standing) {
    for one in standing.iter_mut() {
        match (one, &more) {
            (Standing::Presented(machines), Standing::Presented(other))
            | (Standing::Believed(machines), Standing::Believed(other)) => {
                machines.extend(other.iter().cloned());
                return;
            }
            _ => {}
        }
    }
    standing.push(more);
}
