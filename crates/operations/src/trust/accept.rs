//! Trusting what a machine presents, in place of anything else.

use jiff::Timestamp;
use lantern_book::{BookError, Kept, KnownBy, KnownKey, TrustStore, TrustVerdict, Verified};
use lantern_keys::{Fingerprint, PublicKey};
use lantern_link::{Answer, Ask, ConnectRequest, FirstContact, LinkError, Question, TrustFailure};

/// What decides.
#[derive(Debug, Clone, Copy)]
pub enum Wanted<'a> {
    /// The keys with these fingerprints, without asking.
    Fingerprints(&'a [Fingerprint]),
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
    #[error("{machine} presented no host key")]
    NoKey {
        /// The machine.
        machine: String,
    },
}

/// Decides about the keys that one machine presents, and remembers the decision. `on_more` hears, before a question, what it replaces and which
/// other keys the answer covers.
///
/// # Errors
/// See [`AcceptError`].
pub async fn accept(
    request: &ConnectRequest,
    keys: Vec<PublicKey>,
    wanted: Wanted<'_>,
    ask: &dyn Ask,
    on_more: impl FnOnce(&[KnownBy], &[PublicKey]),
) -> Result<Vec<KnownKey>, AcceptError> {
    let store = TrustStore::load(&request.home)?;
    let machine = request.machine.clone();
    for key in &keys {
        if let Some(revoked) = store.is_revoked(&key.fingerprint()) {
            let reason = revoked.reason.clone();
            return Err(trust(TrustFailure::Revoked { machine, presented: key.clone().into(), reason }));
        }
    }
    let (keys, verified) = match wanted {
        Wanted::Fingerprints(wanted) => (agreeing(&machine, keys, wanted)?, Verified::Expected),
        Wanted::Answer => by_question(&store, request, keys, ask, on_more).await?,
    };
    let now = Timestamp::now();
    let accepted: Vec<KnownKey> = keys.into_iter().map(|key| KnownKey::new(key, verified, now)).collect();
    let before = store.keys(&machine)?;
    match TrustStore::keep_decided(&request.home, &machine, &request.trust_place(), &before, &accepted)? {
        Kept::Yes => Ok(accepted),
        Kept::Revoked(revoked) => {
            let by = |known: &&KnownKey| known.key.fingerprint() == revoked.fingerprint;
            let Some(key) = accepted.iter().find(by).map(|known| known.key.clone()) else {
                return Err(AcceptError::Meanwhile { machine });
            };
            Err(trust(TrustFailure::Revoked { machine, presented: key.into(), reason: revoked.reason }))
        }
        Kept::Otherwise(_) => Err(AcceptError::Meanwhile { machine }),
    }
}

fn trust(failure: TrustFailure) -> AcceptError {
    LinkError::Trust(Box::new(failure)).into()
}

/// Each key was fetched over a connection of its own: one that agrees says nothing about the others.
fn agreeing(
    machine: &str,
    keys: Vec<PublicKey>,
    wanted: &[Fingerprint],
) -> Result<Vec<PublicKey>, AcceptError> {
    let (agreeing, others): (Vec<_>, Vec<_>) =
        keys.into_iter().partition(|key| wanted.contains(&key.fingerprint()));
    if !agreeing.is_empty() {
        return Ok(agreeing);
    }
    let machine = machine.to_owned();
    Err(match (wanted.first(), others.into_iter().next()) {
        (Some(expected), Some(key)) => {
            trust(TrustFailure::NotExpected { machine, presented: key.into(), expected: *expected })
        }
        (Some(_), None) => AcceptError::NoKey { machine },
        (None, _) => AcceptError::NotListed { machine },
    })
}

/// Shows the keys and asks; those that the answer covers.
async fn by_question(
    store: &TrustStore,
    request: &ConnectRequest,
    keys: Vec<PublicKey>,
    ask: &dyn Ask,
    on_more: impl FnOnce(&[KnownBy], &[PublicKey]),
) -> Result<(Vec<PublicKey>, Verified), AcceptError> {
    let machine = request.machine.clone();
    let Some((first, more)) = keys.split_first() else { return Err(AcceptError::NoKey { machine }) };
    let (same_key, same_address, replaced) =
        match store.assess(&machine, &request.trust_place(), &first.clone().into())? {
            TrustVerdict::FirstContact { same_key, same_address } => (same_key, same_address, Vec::new()),
            TrustVerdict::Changed { known, .. } => (Vec::new(), Vec::new(), known),
            _ => Default::default(),
        };
    on_more(&replaced, more);
    let contact = FirstContact {
        machine: machine.clone(),
        reached_at: request.place(),
        presented: first.clone().into(),
        faults: Vec::new(),
        same_key: same_key.clone(),
        same_address,
    };
    match ask.ask(Question::FirstContact(contact)).await {
        // A pasted fingerprint speaks for the one key.
        Answer::Trust(Verified::Pasted) => Ok((vec![first.clone()], Verified::Pasted)),
        Answer::Trust(verified) => Ok((keys, verified)),
        Answer::NoOne => Err(trust(TrustFailure::NoOneToAsk {
            machine,
            presented: first.clone().into(),
            belongs_to: same_key,
        })),
        _ => Err(trust(TrustFailure::Rejected { machine, noun: "host key" })),
    }
}
