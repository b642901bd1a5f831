//! What the keeper does for programs beside keys: connections that they join, and tunnels that it keeps.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use lantern_book::{Home, KeyRing, TrustStore};
use lantern_keys::PublicKey;
use lantern_link::{ConnectRequest, Explained, KeyChoice, LinkError, Opens, Pool, Trunk};
use lantern_operations::tunnel::{OpenFailure, TunnelPlan};
use lantern_operations::{OperationError, ReachOptions};
use tracing::debug;

use crate::holder::{Beside, Doing, Holder, LinkReport};
use crate::made_with::MadeWith;
use crate::outcomes::{JoinOutcome, JoinedForm};
use crate::share;
use crate::stamp::{Stamp, stamp};
use crate::talk::{Gone, KeyForm, Talk, converse};
use crate::terminal;
use crate::wanted::{Keeping, Wanted};

/// What went wrong for a program.
#[derive(Debug)]
pub enum Trouble {
    /// Reaching the machine, as it was typed.
    Reaching(String, OperationError),
    /// Opening a tunnel of these, of the machine as it was typed.
    Opening(String, OpenFailure, Vec<TunnelPlan>),
}

/// Says what went wrong, and what to do about it: the words are the program's.
pub type Explain = Arc<dyn Fn(Trouble) -> Explained + Send + Sync>;

/// All that is done for programs.
pub(crate) struct Errands {
    pub(crate) home: Home,
    pub(crate) pool: Arc<Pool>,
    pub(crate) holder: Holder,
    pub(crate) explain: Explain,
    /// How long a connection that nobody uses stays.
    pub(crate) idle: Duration,
    /// What holds for tunnels that it opens by itself.
    pub(crate) reach: ReachOptions,
    /// While the keeper is locked, nothing is joined.
    pub(crate) is_locked: Arc<AtomicBool>,
    /// Whether something that was to be open from the start could not be opened: the last keeper may still have had its port.
    pub(crate) is_missing: AtomicBool,
    /// Keys of which each use wants a yes: a connection that is shared would be a use without one.
    pub(crate) asked_about: Mutex<Vec<PublicKey>>,
    /// The terminal of whoever asked last, among those who have one: uses of keys that want a yes are asked about there.
    pub(crate) last_terminal: Arc<Mutex<Option<PathBuf>>>,
    /// The trust store, as it was looked at.
    pub(crate) trust_seen: Mutex<Stamp>,
    pub(crate) made_with: Mutex<MadeWith>,
}

impl Errands {
    fn unreachable(&self, typed: &str, error: LinkError) -> Explained {
        (self.explain)(Trouble::Reaching(typed.to_owned(), error.into()))
    }

    /// A program wants to join a connection.
    async fn let_join(&self, wanted: Wanted, mut talk: Talk) {
        let (outcome, trunk) = match self.find(wanted, &mut talk).await {
            Ok(found) => found,
            Err(Gone) => return,
        };
        let Ok(outcome) = serde_json::to_value(&outcome) else { return };
        if talk.conclude(outcome).await.is_err() {
            return;
        }
        if let Some(trunk) = trunk {
            let (stream, rest) = talk.into_parts();
            if let Err(error) = share::serve(trunk, self.pool.clone(), stream, rest).await {
                debug!(%error, "a program has left");
            }
        }
    }

    /// Whether a key may log in of which each use wants a yes.
    fn wants_a_yes(&self, request: &ConnectRequest) -> bool {
        let Ok(asked_about) = self.asked_about.lock() else { return true };
        let ring = KeyRing::new(&self.home);
        let is_one = |name: &String| ring.get(name).is_ok_and(|entry| asked_about.contains(&entry.public));
        !asked_about.is_empty()
            && match &request.keys {
                KeyChoice::Named(names) => names.iter().any(is_one),
                KeyChoice::Nothing => false,
                KeyChoice::Ring | KeyChoice::RingWithout(_) | KeyChoice::File(_) => true,
            }
    }

    pub(crate) fn note_terminal(&self, talk: &Talk) {
        let terminal = talk.peer().and_then(terminal::of_process);
        if let (Some(terminal), Ok(mut last)) = (terminal, self.last_terminal.lock()) {
            *last = Some(terminal);
        }
    }

    async fn find(&self, wanted: Wanted, talk: &mut Talk) -> Result<(JoinOutcome, Option<Trunk>), Gone> {
        if self.is_locked.load(Ordering::SeqCst) {
            return Ok((JoinOutcome::NotNow("the keeper is locked".into()), None));
        }
        let Some(request) = wanted.request.request(&self.home) else {
            return Ok((JoinOutcome::NotNow("it does not understand the request".into()), None));
        };
        if self.wants_a_yes(&request) {
            return Ok((JoinOutcome::NotNow("a key is held of which each use wants a yes".into()), None));
        }
        self.check_trust();
        self.check_settings();
        self.note_making(&request);
        self.note_terminal(talk);
        let pool = self.pool.clone();
        // The first session is there with the login, for whoever asks.
        let request = ConnectRequest { opens: Opens::Session, ..request };
        let made =
            converse(talk, wanted.has_password_for, |ask| async move { pool.get(&request, &*ask).await });
        Ok(match made.await? {
            Ok(trunk) => {
                let account = trunk.account();
                let form = JoinedForm {
                    identification: account.identification,
                    host_key: trunk.host_key().as_ref().map(KeyForm::of),
                    algorithms: account.algorithms.as_ref().map(JoinedForm::names),
                    is_strict: account.is_strict,
                };
                (JoinOutcome::Joined(form), Some(trunk))
            }
            Err(error) => (JoinOutcome::Failed(self.unreachable(&wanted.typed, error)), None),
        })
    }

    /// Ends what is not trusted any more, where the trust store has changed since it was looked at.
    pub(crate) fn check_trust(&self) {
        let changed = stamp(&self.home.file("trust.toml"));
        let Ok(mut seen) = self.trust_seen.lock() else { return };
        if *seen == changed {
            return;
        }
        *seen = changed;
        let checked = TrustStore::load(&self.home).and_then(|trust| self.pool.check_trust(&trust));
        if let Err(error) = checked {
            debug!(%error, "the trust store cannot be read");
        }
    }

    /// Lets go of connections whose machines have other settings or keys by now.
    fn check_settings(&self) {
        let Ok(mut made_with) = self.made_with.lock() else { return };
        for machine in made_with.changed(&self.home, &self.reach) {
            self.pool.let_go(&machine);
        }
    }

    pub(crate) fn note_making(&self, request: &ConnectRequest) {
        if let (false, Ok(mut made_with)) = (self.pool.has(request), self.made_with.lock()) {
            made_with.note(&self.home, &self.reach, request);
        }
    }

    /// What has to be done now and then.
    pub(crate) fn tidy(self: &Arc<Self>) {
        if self.is_missing.swap(false, Ordering::SeqCst) {
            let again = self.clone();
            tokio::spawn(async move { again.open_at_start().await });
        }
        self.check_trust();
        self.check_settings();
        self.pool.tidy(self.idle);
        if let Ok(mut made_with) = self.made_with.lock() {
            let machines = self.pool.all().into_iter().map(|link| link.machine).collect();
            made_with.forget_others(&machines);
        }
        self.holder.forget_over();
    }

    /// Whether the keeper is locked: then nobody uses what it made.
    pub(crate) fn lock(&self, is_locked: bool) {
        self.is_locked.store(is_locked, Ordering::SeqCst);
        if is_locked {
            self.pool.close_all("the keeper was locked");
        }
    }

    /// Ends everything that was made for programs.
    pub(crate) fn end(&self) {
        self.holder.close_all();
        self.pool.close_all("the keeper has stopped");
    }
}

impl Beside for Errands {
    fn join(&self, wanted: Wanted, talk: Talk) -> Doing<'_> {
        Box::pin(self.let_join(wanted, talk))
    }

    fn keep(&self, keeping: Keeping, talk: Talk) -> Doing<'_> {
        Box::pin(self.keep_for(keeping, talk))
    }

    fn links(&self) -> Vec<LinkReport> {
        let report = |link: lantern_link::Pooled| LinkReport {
            machine: link.machine,
            user: link.user,
            age: link.age,
            idle: link.idle,
            uses: link.uses,
            round_trip: link.round_trip,
        };
        self.pool.all().into_iter().map(report).collect()
    }
}
