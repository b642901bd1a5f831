//! The decision about a certificate: the same as about a host key, with what is wrong with it beside.

use jiff::Timestamp;
use lantern_book::{Kept, KnownCertificate, Presented, TrustStore, TrustVerdict, Verified};
use lantern_keys::{CertificateFault, TlsCertificate};

use super::tls::Shown;
use crate::ask::{Answer, Ask, Note, Question};
use crate::decision::{Decision, Judged};
use crate::error::{Kinship, TrustFailure};
use crate::{ConnectRequest, LinkError};

/// Everything that is wrong with what was shown, for a machine that was dialed by one of these names. `is_vouched` is whether an authority speaks for it.
pub(super) fn faults(
    certificate: &TlsCertificate,
    wanted: &[&str],
    is_vouched: impl FnOnce() -> bool,
) -> Vec<CertificateFault> {
    let mut faults = certificate.faults(wanted, Timestamp::now().as_second());
    if !certificate.is_self_issued() && !is_vouched() {
        faults.insert(0, CertificateFault::UnknownAuthority { issuer: certificate.issuer().to_owned() });
    }
    faults
}

/// What a certificate is worth, before anybody is asked.
pub(super) struct Worth {
    verdict: TrustVerdict,
    pub(super) faults: Vec<CertificateFault>,
}

/// Compares a certificate with what is known of the machine, and only where that says nothing, asks for who vouches for it.
pub(super) fn weigh(
    request: &ConnectRequest,
    store: &TrustStore,
    shown: &Shown,
    wanted: &[&str],
) -> Result<Worth, LinkError> {
    let presented = Presented::Certificate(shown.certificate.clone());
    let verdict = store.assess(&request.machine, &request.trust_place(), &presented)?;
    let authorities = authorities(request, store)?;
    let is_vouched = || is_known(&verdict) || shown.is_vouched(&authorities);
    Ok(Worth { faults: faults(&shown.certificate, wanted, is_vouched), verdict })
}

fn is_known(verdict: &TrustVerdict) -> bool {
    matches!(verdict, TrustVerdict::Known | TrustVerdict::Moved { .. })
}

/// Those whose word on the machine's certificates is believed.
pub(super) fn authorities(
    way: &ConnectRequest,
    trust: &TrustStore,
) -> Result<Vec<KnownCertificate>, LinkError> {
    let known = trust.get(&way.machine)?.map(|record| record.authorities).unwrap_or_default();
    // One that was revoked vouches for nobody.
    Ok(known.into_iter().filter(|known| trust.is_revoked(&known.fingerprint()).is_none()).collect())
}

/// Decides about a certificate, and remembers the decision; how it comes to be trusted, in words.
///
/// # Errors
/// It is not trusted.
pub(super) async fn decide(
    request: &ConnectRequest,
    store: &TrustStore,
    shown: &Shown,
    worth: &Worth,
    reached: &str,
    ask: &dyn Ask,
) -> Result<String, LinkError> {
    let (machine, place) = (&request.machine, request.trust_place());
    let presented = Presented::Certificate(shown.certificate.clone());
    if let Some(expected) = request.expect
        && presented.fingerprint() != expected
        && store.is_revoked(&presented.fingerprint()).is_none()
    {
        let (machine, presented) = (machine.clone(), presented);
        return Err(refused(TrustFailure::NotExpected { machine, presented, expected }));
    }
    let Worth { verdict, faults } = worth;
    if is_known(verdict) {
        if let TrustVerdict::Moved { from } = verdict
                // Trusted from a file, it was met nowhere yet.
                && !from.is_empty()
        {
            ask.note(&Note::Moved { machine, from, to: &place });
        }
        if faults.iter().any(|fault| matches!(fault, CertificateFault::Expired { .. })) {
            ask.note(&Note::CertificateEnded { machine, certificate: &shown.certificate });
        }
        if !request.only_looking
            && let Err(error) =
                TrustStore::note_seen(&request.home, machine, &place, &presented, Timestamp::now())
        {
            ask.note(&Note::NotRemembered(&crate::error::chain(&error)));
        }
        return Ok("known".into());
    }
    // One that signed itself has that as a fault, and one for whom nobody speaks too.
    let vouched = faults.is_empty();
    let decision = Decision { request, trust: store, reached, ask, faults, vouched };
    let verified = match decision.judge(&presented).await? {
        Judged::Trusted(verified) => verified,
        Judged::Refused(failure) => return Err(LinkError::Trust(failure)),
        Judged::Ask(contact) => {
            let (machine, belongs_to) = (machine.clone(), contact.same_key.clone());
            match ask.ask(Question::FirstContact(contact)).await {
                Answer::Trust(verified) => verified,
                Answer::NoOne => {
                    return Err(refused(TrustFailure::NoOneToAsk { machine, presented, belongs_to }));
                }
                _ => return Err(refused(TrustFailure::Rejected { machine, noun: presented.noun() })),
            }
        }
    };
    if !request.only_looking {
        keep(request, store, &shown.certificate, verified, reached, ask)?;
    }
    Ok(verified.to_string())
}

fn refused(failure: TrustFailure) -> LinkError {
    LinkError::Trust(Box::new(failure))
}

/// Keeps a decision, unless what is known meanwhile speaks against it.
fn keep(
    request: &ConnectRequest,
    store: &TrustStore,
    certificate: &TlsCertificate,
    verified: Verified,
    reached: &str,
    ask: &dyn Ask,
) -> Result<(), LinkError> {
    let (home, machine) = (&request.home, &request.machine);
    let decided = KnownCertificate::new(certificate, verified, Timestamp::now());
    let before = store.get(machine)?.map(|record| record.certificates).unwrap_or_default();
    let before: Vec<Vec<u8>> = before.into_iter().map(|known| known.der).collect();
    let kept = TrustStore::keep_decided_certificate(home, machine, &request.trust_place(), &before, &decided);
    let (machine, presented) = (machine.clone(), certificate.clone().into());
    match kept {
        Ok(Kept::Yes) => Ok(()),
        Ok(Kept::Revoked(revoked)) => {
            Err(refused(TrustFailure::Revoked { machine, presented, reason: revoked.reason }))
        }
        Ok(Kept::Otherwise(known)) => {
            let (place, belongs_to, kinship) = (reached.to_owned(), Vec::new(), Some(Kinship::Neither));
            Err(refused(TrustFailure::Changed { machine, place, presented, known, belongs_to, kinship }))
        }
        // A home that cannot be written costs a note, not a session.
        Err(error) => {
            ask.note(&Note::NotRemembered(&crate::error::chain(&error)));
            Ok(())
        }
    }
}
