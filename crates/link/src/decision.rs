//! The decision about what a machine proved to be: by what is known, expected, published or allowed, and else by a person. Whatever carries the
//! connection asks here.

use std::net::IpAddr;

use lantern_book::{BookError, KnownBy, Presented, Resolver, TrustStore, TrustVerdict, Verified};
use lantern_keys::{CertificateFault, PublicKey, TlsCertificate};

use crate::ask::{Ask, FirstContact, Note};
use crate::dns::sshfp_records;
use crate::error::{Kinship, TrustFailure, chain};
use crate::{ConnectRequest, TrustPolicy};

/// What became of a key that is not among the known ones.
#[derive(Debug)]
pub(crate) enum Judged {
    /// It is trusted, and why.
    Trusted(Verified),
    /// It is not.
    Refused(Box<TrustFailure>),
    /// A person has to say.
    Ask(FirstContact),
}

/// Everything that a decision goes by.
pub(crate) struct Decision<'a> {
    /// Which machine it is meant to be, and what is said about trusting it.
    pub(crate) request: &'a ConnectRequest,
    /// What is known.
    pub(crate) trust: &'a TrustStore,
    /// Where it was reached.
    pub(crate) reached: &'a str,
    /// Who is told what is worth knowing.
    pub(crate) ask: &'a dyn Ask,
    /// What is wrong with a certificate.
    pub(crate) faults: &'a [CertificateFault],
    /// Whether an authority that is known here vouches for a certificate, and nothing is wrong with it.
    pub(crate) vouched: bool,
}

impl Decision<'_> {
    /// What can be decided without a person.
    ///
    /// # Errors
    /// What is known cannot be read.
    pub(crate) async fn judge(&self, presented: &Presented) -> Result<Judged, BookError> {
        let refuse = |failure| Ok(Judged::Refused(Box::new(failure)));
        let machine = self.request.machine.clone();
        let (same_key, same_address) =
            match self.trust.assess(&machine, &self.request.trust_place(), presented)? {
                TrustVerdict::Revoked(revoked) => {
                    return refuse(TrustFailure::Revoked {
                        machine,
                        presented: presented.clone(),
                        reason: revoked.reason,
                    });
                }
                // One that an authority vouched for is renewed: the word of the authority is what was believed.
                TrustVerdict::Changed { known, .. } if self.vouched && known.iter().all(is_vouched) => {
                    return Ok(Judged::Trusted(Verified::Authority));
                }
                TrustVerdict::Changed { known, belongs_to } => {
                    let (place, kinship) = (self.reached.to_owned(), kinship(presented, &known));
                    let presented = presented.clone();
                    return refuse(TrustFailure::Changed {
                        machine,
                        place,
                        presented,
                        known,
                        belongs_to,
                        kinship,
                    });
                }
                TrustVerdict::FirstContact { same_key, same_address } => (same_key, same_address),
                TrustVerdict::Known | TrustVerdict::Moved { .. } => (Vec::new(), Vec::new()),
            };
        if let Some(expected) = self.request.expect {
            return match presented.fingerprint() == expected {
                true => Ok(Judged::Trusted(Verified::Expected)),
                false => {
                    refuse(TrustFailure::NotExpected { machine, presented: presented.clone(), expected })
                }
            };
        }
        if let Some(key) = presented.host_key()
            && let Some(judged) = self.ask_dns(key).await
        {
            return Ok(judged);
        }
        if self.vouched {
            return Ok(Judged::Trusted(Verified::Authority));
        }
        match self.request.trust {
            TrustPolicy::KnownOnly => {
                return refuse(TrustFailure::KnownOnly {
                    machine,
                    presented: presented.clone(),
                    belongs_to: same_key,
                });
            }
            TrustPolicy::FirstUse => {
                self.ask.note(&Note::FirstUse { machine: &machine, presented, same_key: &same_key });
                return Ok(Judged::Trusted(Verified::FirstUse));
            }
            TrustPolicy::Ask => {}
        }
        let dialed = self.request.place();
        let reached_at = match self.reached.starts_with(&dialed) {
            true => self.reached.to_owned(),
            false => format!("{dialed} ({})", self.reached),
        };
        Ok(Judged::Ask(FirstContact {
            machine,
            reached_at,
            presented: presented.clone(),
            faults: self.faults.to_vec(),
            same_key,
            same_address,
        }))
    }

    /// What the domain name system says of the key, when a trusted resolver is named; nothing when it says nothing that counts.
    async fn ask_dns(&self, key: &PublicKey) -> Option<Judged> {
        let trusted = self.request.resolver.filter(Resolver::is_believed)?;
        let resolver = trusted.address;
        let machine = &self.request.machine;
        let name = self.request.addresses.iter().find(|address| address.parse::<IpAddr>().is_err())?;
        let unproven = |why: String| self.ask.note(&Note::DnsUnproven { machine, why: &why });
        let answer = match sshfp_records(resolver, name, self.request.limits.connect).await {
            Ok(answer) => answer,
            Err(error) => {
                unproven(format!("{resolver}: {}", chain(&error)));
                return None;
            }
        };
        if answer.records.is_empty() {
            return None;
        }
        if !answer.authentic {
            unproven(format!(
                "{resolver} has SSHFP records of {name}, and does not say that it validated them"
            ));
            return None;
        }
        if trusted.is_unprotected {
            self.ask.note(&Note::DnsUnprotected { machine, resolver });
        }
        match (answer.names(key), answer.speaks_of(key)) {
            (true, _) => Some(Judged::Trusted(Verified::Dns)),
            (false, true) => {
                let (machine, presented) = (machine.clone(), key.clone().into());
                Some(Judged::Refused(Box::new(TrustFailure::NotInDns { machine, presented })))
            }
            (false, false) => None,
        }
    }
}

/// How a certificate is akin to those that the machine was known by; nothing of keys.
fn kinship(presented: &Presented, known: &[KnownBy]) -> Option<Kinship> {
    let new = presented.certificate()?;
    let old = known.iter().filter_map(|known| match known {
        KnownBy::Certificate(known) => TlsCertificate::read(&known.der).ok(),
        _ => None,
    });
    let kinships = old.map(|old| match (old.key_info() == new.key_info(), old.issuer() == new.issuer()) {
        (true, _) => Kinship::SameKey,
        (false, true) if !new.is_self_issued() => Kinship::SameIssuer,
        _ => Kinship::Neither,
    });
    kinships.min_by_key(|kinship| *kinship as u8)
}

fn is_vouched(known: &KnownBy) -> bool {
    matches!(known, KnownBy::Certificate(known) if known.verified == Verified::Authority)
}
