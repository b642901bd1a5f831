//! The part of a login that decides about the host key.

use std::time::Instant;

use jiff::Timestamp;
use lantern_book::{Kept, KnownKey, TrustStore, TrustVerdict, Verified};
use lantern_keys::PublicKey;

use crate::ask::{Answer, Note, Question};
use crate::decision::{Decision, Judged};
use crate::error::{LinkError, TrustFailure};
use crate::login::Login;

impl Login<'_, '_> {
    /// A key that is not among the machine's known ones.
    pub(crate) async fn decide_host_key(&mut self, key: &PublicKey) -> Result<(), LinkError> {
        match self.judge(key).await? {
            Ok(verified) => match self.keep(key, verified) {
                Some(failure) => self.refuse(Box::new(failure)).await,
                None => {
                    self.trusted_now = Some(verified);
                    self.client
                        .accept_host_key(Instant::now())
                        .map_err(|source| LinkError::Handshake { place: self.request.place(), source })
                }
            },
            Err(failure) => self.refuse(failure).await,
        }
    }

    async fn refuse(&mut self, failure: Box<TrustFailure>) -> Result<(), LinkError> {
        self.client.reject_host_key();
        self.pump.say_goodbye(&mut self.client).await;
        Err(LinkError::Trust(failure))
    }

    /// Keeps a decision, unless what is known meanwhile speaks against it: then that.
    fn keep(&self, key: &PublicKey, verified: Verified) -> Option<TrustFailure> {
        if self.request.only_looking {
            return None;
        }
        let (home, machine) = (&self.request.home, &self.request.machine);
        let decided = [KnownKey::new(key.clone(), verified, Timestamp::now())];
        let (machine, presented) = (machine.clone(), key.clone().into());
        let kept = self.known.trust.keys(&machine).and_then(|before| {
            TrustStore::keep_decided(home, &machine, &self.request.trust_place(), &before, &decided)
        });
        match kept {
            Ok(Kept::Yes) => None,
            Ok(Kept::Revoked(revoked)) => {
                Some(TrustFailure::Revoked { machine, presented, reason: revoked.reason })
            }
            Ok(Kept::Otherwise(known)) => {
                let (place, belongs_to) = (self.reached.clone(), Vec::new());
                Some(TrustFailure::Changed { machine, place, presented, known, belongs_to, kinship: None })
            }
            // A home that cannot be written costs a note, not a session.
            Err(error) => {
                self.ask.note(&Note::NotRemembered(&crate::error::chain(&error)));
                None
            }
        }
    }

    async fn judge(&mut self, key: &PublicKey) -> Result<Result<Verified, Box<TrustFailure>>, LinkError> {
        let decision = Decision {
            request: self.request,
            trust: &self.known.trust,
            reached: &self.reached,
            ask: self.ask,
            faults: &[],
            vouched: false,
        };
        let presented = key.clone().into();
        let contact = match decision.judge(&presented).await? {
            Judged::Trusted(verified) => return Ok(Ok(verified)),
            Judged::Refused(failure) => return Ok(Err(failure)),
            Judged::Ask(contact) => contact,
        };
        let (machine, belongs_to) = (contact.machine.clone(), contact.same_key.clone());
        Ok(match self.put(Question::FirstContact(contact)).await? {
            Answer::Trust(verified) => Ok(verified),
            Answer::NoOne => Err(Box::new(TrustFailure::NoOneToAsk { machine, presented, belongs_to })),
            _ => Err(Box::new(TrustFailure::Rejected { machine, noun: presented.noun() })),
        })
    }

    /// A known key needs no decision; that its machine has moved is told.
    pub(crate) fn note_move(&mut self) {
        let Some(key) = self.client.host_key() else { return };
        let (machine, place) = (&self.request.machine, self.request.trust_place());
        if let Ok(TrustVerdict::Moved { from }) =
            self.known.trust.assess(machine, &place, &key.clone().into())
        {
            self.ask.note(&Note::Moved { machine, from: &from, to: &place });
        }
    }
}
