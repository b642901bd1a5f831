//! The part of a login that decides about the host key.

use std::net::IpAddr;
use std::time::Instant;

use jiff::Timestamp;
use lantern_book::{TrustStore, TrustVerdict, Verified};
use lantern_keys::PublicKey;

use crate::ask::{Answer, FirstContact, Note, Question};
use crate::dns::sshfp_records;
use crate::error::{TrustFailure, chain};
use crate::login::Login;
use crate::{LinkError, TrustPolicy};

/// What became of a key that is not known.
enum Judged {
    Already(Result<Verified, Box<TrustFailure>>),
    /// A person has to say.
    Ask(FirstContact),
}

impl Login<'_, '_> {
    /// A key that is not among the machine's known ones.
    pub(crate) async fn decide_host_key(&mut self, key: &PublicKey) -> Result<(), LinkError> {
        match self.judge(key).await? {
            Ok(verified) => {
                let (home, machine) = (&self.request.home, &self.request.machine);
                let place = self.request.trust_place();
                let remembered = match self.request.only_looking {
                    true => Ok(()),
                    false => TrustStore::accept(home, machine, &place, key, verified, Timestamp::now()),
                };
                if let Err(error) = remembered {
                    self.ask.note(&Note::NotRemembered(&error));
                }
                self.trusted_now = Some(verified);
                self.client
                    .accept_host_key(Instant::now())
                    .map_err(|source| LinkError::Handshake { place: self.request.place(), source })
            }
            Err(failure) => {
                self.client.reject_host_key();
                self.pump.say_goodbye(&mut self.client).await;
                Err(LinkError::Trust(failure))
            }
        }
    }

    async fn judge(&mut self, key: &PublicKey) -> Result<Result<Verified, Box<TrustFailure>>, LinkError> {
        let contact = match self.judge_alone(key).await {
            Judged::Already(verdict) => return Ok(verdict),
            Judged::Ask(contact) => contact,
        };
        let machine = contact.machine.clone();
        Ok(match self.put(Question::FirstContact(contact)).await? {
            Answer::Trust(verified) => Ok(verified),
            Answer::NoOne => Err(Box::new(TrustFailure::NoOneToAsk { machine, key: key.clone() })),
            _ => Err(Box::new(TrustFailure::Rejected { machine })),
        })
    }

    /// What can be decided without a person.
    async fn judge_alone(&mut self, key: &PublicKey) -> Judged {
        let refuse = |failure| Judged::Already(Err(Box::new(failure)));
        let machine = self.request.machine.clone();
        let (same_key, same_address) = match self.trust.assess(&machine, &self.request.trust_place(), key) {
            TrustVerdict::Revoked(revoked) => {
                return refuse(TrustFailure::Revoked { machine, key: key.clone(), reason: revoked.reason });
            }
            TrustVerdict::Changed { known, belongs_to } => {
                let (place, key) = (self.reached.clone(), key.clone());
                return refuse(TrustFailure::Changed { machine, place, key, known, belongs_to });
            }
            TrustVerdict::FirstContact { same_key, same_address } => (same_key, same_address),
            TrustVerdict::Known | TrustVerdict::Moved { .. } => (Vec::new(), Vec::new()),
        };
        if let Some(expected) = self.request.expect {
            return match key.fingerprint() == expected {
                true => Judged::Already(Ok(Verified::Expected)),
                false => refuse(TrustFailure::NotExpected { machine, key: key.clone(), expected }),
            };
        }
        if let Some(verdict) = self.ask_dns(key).await {
            return Judged::Already(verdict);
        }
        match self.request.trust {
            TrustPolicy::KnownOnly => {
                return refuse(TrustFailure::KnownOnly { machine, key: key.clone() });
            }
            TrustPolicy::FirstUse => {
                self.ask.note(&Note::FirstUse { machine: &machine, key });
                return Judged::Already(Ok(Verified::FirstUse));
            }
            TrustPolicy::Ask => {}
        }
        let dialed = self.request.place();
        let reached_at = if self.reached.starts_with(&dialed) {
            self.reached.clone()
        } else {
            format!("{dialed} ({})", self.reached)
        };
        Judged::Ask(FirstContact { machine, reached_at, key: key.clone(), same_key, same_address })
    }

    /// What the domain name system says of the key, when a trusted resolver is named; nothing when it says nothing that counts.
    async fn ask_dns(&mut self, key: &PublicKey) -> Option<Result<Verified, Box<TrustFailure>>> {
        let resolver = self.request.resolver?;
        let machine = &self.request.machine;
        let name = self.request.addresses.iter().find(|address| address.parse::<IpAddr>().is_err())?;
        let answer = match sshfp_records(resolver, name, self.request.limits.connect).await {
            Ok(answer) => answer,
            Err(error) => {
                let why = format!("{resolver}: {}", chain(&error));
                self.ask.note(&Note::DnsUnproven { machine, why: &why });
                return None;
            }
        };
        if answer.records.is_empty() {
            return None;
        }
        if !answer.authentic {
            let why =
                format!("{resolver} has SSHFP records of {name}, and does not say that it validated them");
            self.ask.note(&Note::DnsUnproven { machine, why: &why });
            return None;
        }
        match (answer.names(key), answer.speaks_of(key)) {
            (true, _) => Some(Ok(Verified::Dns)),
            (false, true) => {
                Some(Err(Box::new(TrustFailure::NotInDns { machine: machine.clone(), key: key.clone() })))
            }
            (false, false) => None,
        }
    }

    /// A known key needs no decision; that its machine has moved is told.
    pub(crate) fn note_move(&mut self) {
        let Some(key) = self.client.host_key() else { return };
        let (machine, place) = (&self.request.machine, self.request.trust_place());
        if let TrustVerdict::Moved { from } = self.trust.assess(machine, &place, key) {
            self.ask.note(&Note::Moved { machine, from: &from, to: &place });
        }
    }
}
