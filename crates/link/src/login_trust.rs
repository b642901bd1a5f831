//! The part of a login that decides about the host key.

use std::time::Instant;

use jiff::Timestamp;
use lantern_book::{TrustStore, TrustVerdict, Verified};
use lantern_keys::PublicKey;

use crate::LinkError;
use crate::ask::{FirstContact, HostKeyAnswer, Note};
use crate::error::TrustFailure;
use crate::login::Login;

impl Login<'_, '_> {
    /// A key that is not among the machine's known ones.
    pub(crate) async fn decide_host_key(&mut self, key: &PublicKey) -> Result<(), LinkError> {
        let outcome = self.judge(key);
        match outcome {
            Ok(verified) => {
                let (home, machine) = (self.request.home, self.request.machine);
                let remembered =
                    TrustStore::accept(home, machine, &self.request.place(), key, verified, Timestamp::now());
                if let Err(error) = remembered {
                    self.ask.note(&Note::NotRemembered(&error));
                }
                self.client
                    .accept_host_key(Instant::now())
                    .map_err(|source| LinkError::Handshake { place: self.request.place(), source })
            }
            Err(failure) => {
                self.client.reject_host_key();
                self.pump.finish(&mut self.client).await;
                Err(LinkError::Trust(failure))
            }
        }
    }

    fn judge(&mut self, key: &PublicKey) -> Result<Verified, Box<TrustFailure>> {
        let machine = self.request.machine.to_owned();
        let (same_key, same_address) = match self.trust.assess(&machine, &self.request.place(), key) {
            TrustVerdict::Changed { known, belongs_to } => {
                let (place, key) = (self.reached.to_string(), key.clone());
                return Err(Box::new(TrustFailure::Changed { machine, place, key, known, belongs_to }));
            }
            TrustVerdict::FirstContact { same_key, same_address } => (same_key, same_address),
            TrustVerdict::Known | TrustVerdict::Moved { .. } => (Vec::new(), Vec::new()),
        };
        if let Some(expected) = self.request.expect {
            return match key.fingerprint() == expected {
                true => Ok(Verified::Expected),
                false => Err(Box::new(TrustFailure::NotExpected { machine, key: key.clone(), expected })),
            };
        }
        let dialed = self.request.place();
        let reached = self.reached.to_string();
        let reached_at = if dialed == reached { reached } else { format!("{dialed} ({reached})") };
        let contact = FirstContact { machine: &machine, reached_at, key, same_key, same_address };
        match self.ask.first_contact(&contact) {
            HostKeyAnswer::Accept(verified) => Ok(verified),
            HostKeyAnswer::Reject => Err(Box::new(TrustFailure::Rejected { machine })),
            HostKeyAnswer::NoOneToAsk => {
                Err(Box::new(TrustFailure::NoOneToAsk { machine, key: key.clone() }))
            }
        }
    }

    /// A known key needs no decision; that its machine has moved is told.
    pub(crate) fn note_move(&mut self) {
        let Some(key) = self.client.host_key() else { return };
        let (machine, place) = (self.request.machine, self.request.place());
        if let TrustVerdict::Moved { from } = self.trust.assess(machine, &place, key) {
            self.ask.note(&Note::Moved { machine, from: &from, to: &place });
        }
    }
}
