//! Trusting what a machine presents, in place of anything else.

use jiff::Timestamp;
use lantern_book::{
    BookError, Kept, KnownBy, KnownCertificate, KnownKey, Presented, TrustStore, TrustVerdict, Verified,
};
use lantern_keys::Fingerprint;
use lantern_link::{Answer, Ask, ConnectRequest, FirstContact, LinkError, Question, Seen, TrustFailure};

/// What decides.
#[derive(Debug, Clone, Copy)]
pub enum Wanted<'a> {
    /// The keys with these fingerprints, without asking; from where they are known.
    Fingerprints(&'a [Fingerprint], Verified),
    /// A person.
    Answer,
}

/// Why nothing was trusted.
#[derive(Debug, thiserror::Error)]
pub enum AcceptError {
    /// The keys are not to be trusted, or were not accepted.
    #[error(transparent)]
    Trust(#[from] LinkError),
    /// The trust store.
    #[error(transparent)]
    Book(#[from] BookError),
    /// The list of what is wanted has nothing for this machine.
    #[error("the list has no fingerprint for {machine}")]
    NotListed {
        /// The machine.
        machine: String,
    },
    /// Another program learned something else of the machine while this was decided.
    #[error("what is known of {machine} changed meanwhile; nothing was written")]
    Meanwhile {
        /// The machine.
        machine: String,
    },
    /// The machine showed none.
    #[error("{machine} presented nothing")]
    NoKey {
        /// The machine.
        machine: String,
    },
}

/// Decides about what one machine presents, and remembers the decision. `on_more` hears, before a question, what it replaces and which
/// other keys the answer covers.
///
/// # Errors
/// See [`AcceptError`].
pub async fn accept(
    request: &ConnectRequest,
    seen: Seen,
    wanted: Wanted<'_>,
    ask: &dyn Ask,
    on_more: impl FnOnce(&[KnownBy], &[Presented]),
) -> Result<Vec<KnownBy>, AcceptError> {
    let store = TrustStore::load(&request.home)?;
    let machine = request.machine.clone();
    for presented in &seen.presented {
        if let Some(revoked) = store.is_revoked(&presented.fingerprint()) {
            let reason = revoked.reason.clone();
            return Err(trust(TrustFailure::Revoked { machine, presented: presented.clone(), reason }));
        }
    }
    let (presented, verified) = match wanted {
        Wanted::Fingerprints(wanted, verified) => (agreeing(&machine, seen.presented, wanted)?, verified),
        Wanted::Answer => by_question(&store, request, seen, ask, on_more).await?,
    };
    let now = Timestamp::now();
    let accepted: Vec<KnownBy> = presented.iter().filter_map(|one| known(one, verified, now)).collect();
    match keep(request, &store, &accepted)? {
        Kept::Yes => Ok(accepted),
        Kept::Revoked(revoked) => {
            match presented.into_iter().find(|one| one.fingerprint() == revoked.fingerprint) {
                Some(presented) => {
                    Err(trust(TrustFailure::Revoked { machine, presented, reason: revoked.reason }))
                }
                None => Err(AcceptError::Meanwhile { machine }),
            }
        }
        Kept::Otherwise(_) => Err(AcceptError::Meanwhile { machine }),
    }
}

fn known(presented: &Presented, verified: Verified, now: Timestamp) -> Option<KnownBy> {
    match presented {
        Presented::HostKey(key) => Some(KnownBy::Key(KnownKey::new(key.clone(), verified, now))),
        Presented::Certificate(certificate) => {
            Some(KnownBy::Certificate(KnownCertificate::new(certificate, verified, now)))
        }
        _ => None,
    }
}

/// Keeps what was decided, on what is known now.
fn keep(request: &ConnectRequest, store: &TrustStore, accepted: &[KnownBy]) -> Result<Kept, BookError> {
    let (home, machine, place) = (&request.home, &request.machine, request.trust_place());
    let certificate = accepted.iter().find_map(|known| match known {
        KnownBy::Certificate(certificate) => Some(certificate),
        _ => None,
    });
    if let Some(certificate) = certificate {
        let before = store.get(machine)?.map(|record| record.certificates).unwrap_or_default();
        let before: Vec<Vec<u8>> = before.into_iter().map(|known| known.der).collect();
        return TrustStore::keep_decided_certificate(home, machine, &place, &before, certificate);
    }
    let keys = accepted.iter().filter_map(|known| match known {
        KnownBy::Key(key) => Some(key.clone()),
        _ => None,
    });
    let before = store.keys(machine)?;
    TrustStore::keep_decided(home, machine, &place, &before, &keys.collect::<Vec<_>>())
}

fn trust(failure: TrustFailure) -> AcceptError {
    LinkError::Trust(Box::new(failure)).into()
}

/// Each key was fetched over a connection of its own: one that agrees says nothing about the others.
fn agreeing(
    machine: &str,
    presented: Vec<Presented>,
    wanted: &[Fingerprint],
) -> Result<Vec<Presented>, AcceptError> {
    let (agreeing, others): (Vec<_>, Vec<_>) =
        presented.into_iter().partition(|one| wanted.contains(&one.fingerprint()));
    if !agreeing.is_empty() {
        return Ok(agreeing);
    }
    let machine = machine.to_owned();
    Err(match (wanted.first(), others.into_iter().next()) {
        (Some(expected), Some(presented)) => {
            trust(TrustFailure::NotExpected { machine, presented, expected: *expected })
        }
        (Some(_), None) => AcceptError::NoKey { machine },
        (None, _) => AcceptError::NotListed { machine },
    })
}

/// Shows what is presented and asks; that of it which the answer covers.
async fn by_question(
    store: &TrustStore,
    request: &ConnectRequest,
    seen: Seen,
    ask: &dyn Ask,
    on_more: impl FnOnce(&[KnownBy], &[Presented]),
) -> Result<(Vec<Presented>, Verified), AcceptError> {
    let machine = request.machine.clone();
    let Seen { presented, faults } = seen;
    let Some((first, more)) = presented.split_first() else { return Err(AcceptError::NoKey { machine }) };
    let (same_key, same_address, replaced) = match store.assess(&machine, &request.trust_place(), first)? {
        TrustVerdict::FirstContact { same_key, same_address } => (same_key, same_address, Vec::new()),
        TrustVerdict::Changed { known, .. } => (Vec::new(), Vec::new(), known),
        _ => Default::default(),
    };
    on_more(&replaced, more);
    let first = first.clone();
    let contact = FirstContact {
        machine: machine.clone(),
        reached_at: request.place(),
        presented: first.clone(),
        faults,
        same_key: same_key.clone(),
        same_address,
    };
    match ask.ask(Question::FirstContact(contact)).await {
        // A pasted fingerprint speaks for the one.
        Answer::Trust(verified @ (Verified::Pasted | Verified::Thumbprint)) => Ok((vec![first], verified)),
        Answer::Trust(verified) => Ok((presented, verified)),
        Answer::NoOne => {
            Err(trust(TrustFailure::NoOneToAsk { machine, presented: first, belongs_to: same_key }))
        }
        _ => Err(trust(TrustFailure::Rejected { machine, noun: first.noun() })),
    }
}
