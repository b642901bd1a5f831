//! Looking at what machines present, and what it means.

use lantern_book::{BookError, KnownBy, Presented, TrustStore, TrustVerdict};
use lantern_link::{ConnectRequest, LinkError, Nobody, RemoteRequest, Seen};

use crate::at_once::at_once;

/// Most machines that are looked at at once: each costs a few key exchanges.
const AT_ONCE: usize = 64;

/// What one machine presents.
pub type Looked = Result<Seen, LinkError>;

/// Looks at what machines present, many at once, without asking anybody anything; in the order of the requests. `on_done` hears of each that
/// is done. Dropped, it breaks off all of them.
pub async fn look(requests: Vec<RemoteRequest>, mut on_done: impl FnMut()) -> Vec<Looked> {
    let probes = requests.into_iter().map(|request| async move { request.look(&Nobody).await });
    let looked = at_once(probes, AT_ONCE, |_, _| on_done()).await;
    let broken_off = || {
        let source = std::io::Error::other("looking at it was broken off");
        Err(LinkError::Dial { place: "a machine".into(), source })
    };
    looked.into_iter().map(|outcome| outcome.unwrap_or_else(broken_off)).collect()
}

/// What it means that a machine presents this, the worst first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// One of them was revoked.
    Revoked {
        /// Why.
        reason: String,
    },
    /// It had others.
    Changed {
        /// Those.
        known: Vec<KnownBy>,
        /// Other machines that have what it presents.
        belongs_to: Vec<String>,
    },
    /// It was never met.
    New {
        /// Other machines with the same key.
        same_key: Vec<String>,
    },
    /// Some of its keys are known, and some are not yet.
    PartlyKnown {
        /// How many are not.
        unknown: usize,
        /// Of how many.
        all: usize,
    },
    /// The same key at another address.
    Moved {
        /// Where it was met.
        from: Vec<String>,
    },
    /// As it was.
    Known,
}

/// What it means that a machine presents these, going by what is trusted.
///
/// # Errors
/// What is trusted cannot be read.
pub fn standing(
    store: &TrustStore,
    request: &ConnectRequest,
    presented: &[Presented],
) -> Result<Standing, BookError> {
    let assess = |one: &Presented| store.assess(&request.machine, &request.trust_place(), one);
    let verdicts: Vec<TrustVerdict> = presented.iter().map(assess).collect::<Result<_, _>>()?;
    for verdict in &verdicts {
        if let TrustVerdict::Revoked(revoked) = verdict {
            return Ok(Standing::Revoked { reason: revoked.reason.clone() });
        }
    }
    let is_own = |v: &&TrustVerdict| matches!(v, TrustVerdict::Known | TrustVerdict::Moved { .. });
    let own = verdicts.iter().filter(is_own).count();
    Ok(match verdicts.into_iter().next() {
        _ if own > 0 && own < presented.len() => {
            Standing::PartlyKnown { unknown: presented.len() - own, all: presented.len() }
        }
        Some(TrustVerdict::Moved { from }) => Standing::Moved { from },
        Some(TrustVerdict::FirstContact { same_key, .. }) => Standing::New { same_key },
        Some(TrustVerdict::Changed { known, belongs_to }) => Standing::Changed { known, belongs_to },
        _ => Standing::Known,
    })
}
