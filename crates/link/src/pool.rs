//! Connections of this process that several use: one for each machine, user and way, made by whoever needs it first.

use std::collections::HashMap;
use std::fmt;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::{Duration, Instant};

use lantern_book::{BookError, Home, TrustStore};
use tokio::sync::watch;

use crate::{
    AgentSocket, Ask, Channel, ConnectRequest, Finding, LinkError, Opens, Shares, Trunk, connect_alone,
};

/// One connection, or the place where one is being made.
#[derive(Default)]
struct Place {
    /// Held while it is made: others who want it wait, instead of making another one.
    making: tokio::sync::Mutex<()>,
    live: Mutex<Option<Live>>,
}

struct Live {
    trunk: Trunk,
    spare: Spare,
    since: Instant,
    last_used: Instant,
    uses: u64,
}

/// A session that is open before anybody asks for one.
enum Spare {
    /// None yet, or the last one was taken.
    Missing,
    /// One is being opened; this ends when it is known what came of it.
    Coming(watch::Receiver<()>),
    /// It waits.
    Here(Channel),
    /// The machine opens no more than it was asked for: it is not asked again.
    Refused,
}

impl Live {
    /// Whether anybody has a part in it, besides the spare session.
    fn is_used(&self) -> bool {
        self.trunk.parts() > 1 + usize::from(matches!(self.spare, Spare::Here(_)))
    }

    /// How it stands, where it has not ended.
    fn told(&self) -> Option<Pooled> {
        self.trunk.ended_by().is_none().then(|| Pooled {
            machine: self.trunk.machine().to_owned(),
            user: self.trunk.user().to_owned(),
            age: self.since.elapsed(),
            idle: (!self.is_used()).then(|| self.last_used.elapsed()),
            uses: self.uses,
            round_trip: self.trunk.account().statistics.round_trip,
        })
    }
}

impl Place {
    fn live(&self) -> MutexGuard<'_, Option<Live>> {
        self.live.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The connection, where there is one; it counts as used.
    fn take(&self) -> Option<Trunk> {
        let mut live = self.live();
        let found = live.as_mut().filter(|live| live.trunk.ended_by().is_none())?;
        found.last_used = Instant::now();
        found.uses += 1;
        Some(found.trunk.clone())
    }
}

/// A connection as it stands.
#[derive(Debug, Clone)]
pub struct Pooled {
    /// The machine, as the user calls it.
    pub machine: String,
    /// The user logged in as.
    pub user: String,
    /// How long it has been there.
    pub age: Duration,
    /// How long nobody has used it; none: somebody does.
    pub idle: Option<Duration>,
    /// How many times it was asked for.
    pub uses: u64,
    /// Its last round trip.
    pub round_trip: Option<Duration>,
}

/// The connections.
pub struct Pool {
    places: Mutex<HashMap<String, Arc<Place>>>,
    /// Those that nobody gets any more, while somebody uses them.
    leaving: Mutex<Vec<Live>>,
    own: Weak<Self>,
}

impl fmt::Debug for Pool {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Pool").field("places", &self.places().len()).finish()
    }
}

/// Everything that a connection is made by: another user, key, limit or way is another connection. Which agents sign is not a part of that; whether any
/// does is.
fn made_by(request: &ConnectRequest) -> String {
    fn plain(request: &ConnectRequest) -> ConnectRequest {
        let via = request.via.iter().map(plain).collect();
        // What was read of a home so far is no part of it either.
        let home = Home::new(request.home.path().to_owned());
        let signs = AgentSocket { path: PathBuf::new(), what: "" };
        let agents = request.agents.first().map(|_| signs).into_iter().collect();
        ConnectRequest {
            home,
            opens: Opens::Nothing,
            shares: None,
            known: None,
            ring: None,
            is_on_the_way: false,
            agents,
            via,
            ..request.clone()
        }
    }
    format!("{:?}", plain(request))
}

impl Pool {
    /// One without any.
    pub fn new() -> Arc<Self> {
        Arc::new_cyclic(|own| Self { places: Mutex::default(), leaving: Mutex::default(), own: own.clone() })
    }

    fn places(&self) -> MutexGuard<'_, HashMap<String, Arc<Place>>> {
        self.places.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The connection for this request; made, when there is none. Its gateways are shared as well.
    ///
    /// # Errors
    /// The step that failed.
    pub async fn get(&self, request: &ConnectRequest, ask: &dyn Ask) -> Result<Trunk, LinkError> {
        let place = self.places().entry(made_by(request)).or_default().clone();
        if let Some(trunk) = place.take() {
            return Ok(trunk);
        }
        let _making = place.making.lock().await;
        if let Some(trunk) = place.take() {
            return Ok(trunk);
        }
        let shares = self.own.upgrade().map(|own| own as Arc<dyn Shares>);
        let trunk = connect_alone(&ConnectRequest { shares, ..request.clone() }, ask).await?;
        let now = Instant::now();
        let spare = trunk.take_early_session().map_or(Spare::Missing, Spare::Here);
        let live = Live { trunk: trunk.clone(), spare, since: now, last_used: now, uses: 1 };
        *place.live() = Some(live);
        Ok(trunk)
    }

    /// A session of a connection: the one that waits, where one does, so that it costs no round trip. The next one is opened meanwhile.
    ///
    /// # Errors
    /// As [`Trunk::open_session`].
    pub async fn session(&self, trunk: &Trunk) -> Result<Channel, LinkError> {
        let session = match self.take_spare(trunk) {
            Some(waiting) => waiting,
            None => match trunk.open_session().await {
                Ok(session) => session,
                // The spare one, which was asked for before, may have been the last that the machine opens.
                Err(refused) => self.late_spare(trunk).await.ok_or(refused)?,
            },
        };
        self.with_spare(trunk, |spare| {
            if matches!(spare, Spare::Missing)
                && let Some(own) = self.own.upgrade()
            {
                let (opening, coming) = watch::channel(());
                *spare = Spare::Coming(coming);
                tokio::spawn(own.open_spare(trunk.clone(), opening));
            }
        });
        Ok(session)
    }

    fn take_spare(&self, trunk: &Trunk) -> Option<Channel> {
        self.with_spare(trunk, |spare| match std::mem::replace(spare, Spare::Missing) {
            // One that the machine has closed meanwhile is none.
            Spare::Here(channel) => (!channel.is_over()).then_some(channel),
            other => {
                *spare = other;
                None
            }
        })
        .flatten()
    }

    async fn late_spare(&self, trunk: &Trunk) -> Option<Channel> {
        let coming = self.with_spare(trunk, |spare| match spare {
            Spare::Coming(coming) => Some(coming.clone()),
            _ => None,
        });
        if let Some(mut coming) = coming.flatten() {
            // It says nothing, and ends.
            let _ = coming.changed().await;
        }
        self.take_spare(trunk)
    }

    async fn open_spare(self: Arc<Self>, trunk: Trunk, opening: watch::Sender<()>) {
        let opened = trunk.open_session().await;
        self.with_spare(&trunk, |spare| *spare = opened.map_or(Spare::Refused, Spare::Here));
        drop(opening);
    }

    /// Does something with the spare session of a connection that is held.
    fn with_spare<T>(&self, trunk: &Trunk, what: impl FnOnce(&mut Spare) -> T) -> Option<T> {
        let places: Vec<Arc<Place>> = self.places().values().cloned().collect();
        for place in places {
            let mut live = place.live();
            if let Some(live) = live.as_mut().filter(|live| live.trunk.is_same(trunk)) {
                return Some(what(&mut live.spare));
            }
        }
        None
    }

    /// Whether there is a connection for this request.
    pub fn has(&self, request: &ConnectRequest) -> bool {
        let place = self.places().get(&made_by(request)).cloned();
        place.is_some_and(|place| place.live().as_ref().is_some_and(|live| live.trunk.ended_by().is_none()))
    }

    /// Those that there are.
    pub fn all(&self) -> Vec<Pooled> {
        let places: Vec<Arc<Place>> = self.places().values().cloned().collect();
        let mut all: Vec<Pooled> = places.iter().filter_map(|place| place.live().as_ref()?.told()).collect();
        all.extend(self.leaving().iter().filter_map(Live::told));
        all.sort_by(|one, other| (&one.machine, &one.user).cmp(&(&other.machine, &other.user)));
        all
    }

    /// Lets go of those that have ended, and of those that nobody has used for this time.
    pub fn tidy(&self, idle: Duration) {
        drop(self.keep(|live| {
            if live.is_used() {
                live.last_used = Instant::now();
            }
            live.trunk.ended_by().is_none() && live.last_used.elapsed() < idle
        }));
        let unused: Vec<Live> = self.leaving().extract_if(.., |live| !live.is_used()).collect();
        drop(unused);
    }

    /// Lets go of those to a machine: nobody gets them any more, and they end when nobody uses them.
    pub fn let_go(&self, machine: &str) {
        let gone = self.keep(|live| live.trunk.machine() != machine);
        let gone = gone.into_iter().map(|live| Live { spare: Spare::Refused, ..live });
        let used: Vec<Live> = gone.filter(Live::is_used).collect();
        self.leaving().extend(used);
    }

    fn leaving(&self) -> MutexGuard<'_, Vec<Live>> {
        self.leaving.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends those whose machines are not trusted any more to be who they proved to be, whoever uses them.
    ///
    /// # Errors
    /// The trust store cannot be read.
    pub fn check_trust(&self, trust: &TrustStore) -> Result<(), BookError> {
        let mut outcome = Ok(());
        let gone = self.keep(|live| {
            let good = trust.good_keys(live.trunk.machine());
            let is_good = match good {
                Ok(keys) => live.trunk.host_key().is_some_and(|key| keys.contains(&key)),
                Err(error) => {
                    outcome = Err(error);
                    true
                }
            };
            if !is_good {
                live.trunk.end("the machine is not trusted any more to be what it proved to be");
            }
            is_good
        });
        drop(gone);
        outcome
    }

    /// Ends those that nobody uses.
    pub fn close_idle(&self) {
        self.tidy(Duration::ZERO);
    }

    /// Ends all of them, whoever uses them; they are told why.
    pub fn close_all(&self, why: &'static str) {
        drop(self.keep(|live| {
            live.trunk.end(why);
            false
        }));
    }

    /// Takes out those that do not stay: what goes with them should go outside the lock, when this is dropped.
    fn keep(&self, mut stays: impl FnMut(&mut Live) -> bool) -> Vec<Live> {
        let mut gone = Vec::new();
        self.places().retain(|_, place| {
            let mut live = place.live();
            if live.as_mut().is_some_and(|live| !stays(live)) {
                gone.extend(live.take());
            }
            // A place where one is being made stays.
            live.is_some() || place.making.try_lock().is_err()
        });
        gone.extend(self.leaving().extract_if(.., |live| !stays(live)));
        gone
    }
}

impl Shares for Pool {
    fn find<'a>(&'a self, request: &'a ConnectRequest, ask: &'a dyn Ask) -> Finding<'a> {
        Box::pin(async move { Some(self.get(request, ask).await) })
    }
}
