//! What a login brings, put together before there is a line, and what it leaves for the next one.

use std::sync::Arc;

use jiff::Timestamp;
use lantern_book::{BookError, Hint, Hints, TrustStore, Uses};
use lantern_keys::{Fingerprint, PublicKey, SignatureAlgorithm, SystemRandom};
use lantern_ssh::algorithm::KexAlgorithm;
use lantern_ssh::{AuthPlan, Client, ClientConfig, Guess, KeyCandidate};
use tracing::debug;

use crate::ask::{Ask, Note};
use crate::early::{self, Intent};
use crate::own_keys::{KEYS_FIRST, LeftOut, OwnKey, choose, join_agents, own_keys};
use crate::request::ASKED_MEANWHILE;
use crate::{AgentClient, ConnectRequest, Known, LinkError};

/// Notes what this connection taught for the next one, and by which key it was made. A home that cannot be written costs a note, not a session.
pub(crate) fn remember(request: &ConnectRequest, client: &Client, took: Option<Fingerprint>, ask: &dyn Ask) {
    let place = request.trust_place();
    let noted = match client.host_key() {
        Some(key) => TrustStore::note_seen(
            &request.home,
            &request.machine,
            &place,
            &key.clone().into(),
            Timestamp::now(),
        ),
        None => Ok(()),
    };
    let hints = Hints::of(&request.home);
    // None where there is nothing to guess: an old one would go on to cost what it cost today.
    let hint = client
        .next_guess()
        .map(|guess| Hint { kex: guess.kex.name().into(), host_key: guess.host_key.name().into() });
    let opening = early::learned(&hints, &request.machine, client);
    let hinted = hints.note(&request.machine, hint.as_ref(), &opening);
    let now = Timestamp::now();
    let used = Uses::of(&request.home).note(&request.machine, |noted| {
        (noted.used, noted.seen) = (Some(now), Some(now));
        noted.took = took.or(noted.took);
    });
    if let Err(error) = noted.and(hinted).and(used) {
        ask.note(&Note::NotRemembered(&crate::error::chain(&error)));
    }
}

/// What is needed before a line is: trust, keys, agents and a plan.
pub(crate) struct Prepared<'r> {
    pub(crate) request: &'r ConnectRequest,
    pub(crate) known: Arc<Known>,
    pub(crate) keys: Vec<OwnKey>,
    pub(crate) agents: Vec<AgentClient>,
    pub(crate) plan: AuthPlan,
    pub(crate) left_out: LeftOut,
    pub(crate) guesses: bool,
    /// What is opened together with the login.
    pub(crate) early: Option<Intent>,
}

impl<'r> Prepared<'r> {
    /// The same without a guess at what the server prefers.
    pub(crate) fn without_guess(self) -> Self {
        Self { guesses: false, ..self }
    }

    /// The same without a session that is opened together with the login.
    pub(crate) fn without_early(self) -> Self {
        Self { early: None, ..self }
    }

    pub(crate) async fn new(request: &'r ConnectRequest, ask: &dyn Ask) -> Result<Self, LinkError> {
        let known = match &request.known {
            Some(known) if request.only_looking => known.clone(),
            _ => Arc::new(Known::load(&request.home)?),
        };
        let mut left_out = LeftOut::default();
        let mut keys = own_keys(request, ask, &mut left_out).await?;
        let agents = join_agents(request, &mut keys).await;
        let took = Uses::of(&request.home).get(&request.machine).took;
        let early = Intent::of(request, &known.hints, took);
        let keys = choose(request, keys, took.as_ref(), &mut left_out);
        let candidates = keys.iter().map(|key| KeyCandidate {
            name: key.name.clone(),
            public: key.public.clone(),
            locked: key.is_locked(),
        });
        let plan = AuthPlan::new(candidates.collect(), ask.password_at_hand(&request.machine));
        let mut plan = plan.with_keys_first(KEYS_FIRST);
        if request.keys_only {
            plan = plan.with_keys_only();
        }
        if ask.wants_methods() {
            plan = plan.with_probe_first();
        }
        Ok(Self { request, known, keys, agents, plan, left_out, guesses: true, early })
    }
}

pub(crate) fn client_config(
    request: &ConnectRequest,
    store: &Known,
    guesses: bool,
) -> Result<ClientConfig, BookError> {
    let known: Vec<PublicKey> = store.trust.good_keys(&request.machine)?;
    let mut offer = request.offer.clone();
    let algorithms: Vec<_> =
        known.iter().flat_map(|key| key.signature_algorithms().iter().copied()).collect();
    offer.prefer_host_keys(&algorithms);
    let guess = guess(request, &store.hints, &algorithms);
    if let Some(guess) = &guess {
        // All of its keys are trusted alike: the one that it lists first is the one that can be guessed. It is preferred whether
        // we guess or not, so that a guess changes nothing.
        offer.prefer_host_keys(&[guess.host_key]);
    }
    let mut config = ClientConfig::new(request.user.clone(), offer, Box::new(SystemRandom));
    config.guess = guess.filter(|_| guesses);
    // An expectation narrows what goes without asking: another known key is then judged, and refused.
    config.known_host_keys = known;
    config.known_host_keys.retain(|key| request.expect.is_none_or(|expected| key.fingerprint() == expected));
    config.handshake_time = request.limits.handshake;
    config.login_time = request.limits.login;
    // The last third is the time that the last question has for its answer.
    config.keepalive = request.limits.dead_after.map(|time| time / ASKED_MEANWHILE);
    config.keepalive_misses = ASKED_MEANWHILE - 1;
    Ok(config)
}

/// What was chosen last time, when we can verify a host key of that kind.
fn guess(request: &ConnectRequest, hints: &Hints, known: &[SignatureAlgorithm]) -> Option<Guess> {
    let hint = hints.get(&request.machine)?;
    let kex = KexAlgorithm::from_name(&hint.kex)?;
    let host_key = SignatureAlgorithm::from_name(&hint.host_key).ok()?;
    debug!(kex = hint.kex, host_key = hint.host_key, "guessing");
    known.contains(&host_key).then_some(Guess { kex, host_key })
}
