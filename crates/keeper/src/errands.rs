//! What the keeper does for programs beside keys: connections that they join, and tunnels that it keeps.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use lantern_book::{Home, KeyRing, MachineBook, TrustStore};
use lantern_keys::PublicKey;
use lantern_link::{Ask, ConnectRequest, Explained, KeyChoice, LinkError, Nobody, Opens, Pool, Trunk};
use lantern_operations::tunnel::{
    Connect, LinkPhase, OpenFailure, Persistence, TunnelPlan, TunnelState, TunnelsRequest, named_plans, open,
};
use lantern_operations::{OperationError, ReachOptions, Target};
use tracing::debug;

use crate::holder::{Beside, Doing, Held, Holder, LinkReport};
use crate::outcomes::{JoinOutcome, JoinedForm, KeepOutcome};
use crate::share;
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
    /// When the trust store was changed last, as far as it was looked at.
    /// Whether something that was to be open from the start could not be opened: the last keeper may still have had its port.
    pub(crate) is_missing: AtomicBool,
    /// Keys of which each use wants a yes: a connection that is shared would be a use without one.
    pub(crate) asked_about: Mutex<Vec<PublicKey>>,
    /// The terminal of whoever asked last, among those who have one: uses of keys that want a yes are asked about there.
    pub(crate) last_terminal: Arc<Mutex<Option<PathBuf>>>,
    pub(crate) trust_seen: Mutex<Option<std::time::SystemTime>>,
}

fn plain(headline: &str) -> Explained {
    Explained {
        // Local trouble: the lowest that is not about how something was typed.
        code: 241,
        headline: headline.to_owned(),
        details: Vec::new(),
        hints: Vec::new(),
        is_final: true,
    }
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

    fn note_terminal(&self, talk: &Talk) {
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

    /// A program wants tunnels kept.
    async fn keep_for(&self, keeping: Keeping, mut talk: Talk) {
        let outcome = match self.open(&keeping, &mut talk).await {
            Ok(outcome) => outcome,
            Err(Gone) => return,
        };
        if let Ok(outcome) = serde_json::to_value(&outcome) {
            let _ = talk.conclude(outcome).await;
        }
    }

    async fn open(&self, keeping: &Keeping, talk: &mut Talk) -> Result<KeepOutcome, Gone> {
        let wanted = &keeping.wanted;
        let (Some(plans), Some(request)) = (keeping.plans(), wanted.request.clone().request(&self.home))
        else {
            return Ok(KeepOutcome::Failed(plain("the keeper does not understand the request")));
        };
        let machine = request.machine.clone();
        let held = self.holder.names(&machine);
        if let Some(plan) = plans.iter().find(|plan| held.contains(&plan.name)) {
            let mut explained =
                plain(&format!("the keeper has the tunnel {} of {machine} open already", plan.name));
            explained.hints = vec![
                "lantern tunnel list --open".into(),
                format!("lantern tunnel close {} {}", wanted.typed, plan.name),
            ];
            return Ok(KeepOutcome::Failed(explained));
        }
        self.note_terminal(talk);
        let persistence = Persistence { give_up: keeping.give_up, from_start: false };
        let kept = converse(talk, wanted.has_password_for.clone(), |ask| {
            self.open_over(request, plans, persistence, keeping, ask)
        });
        kept.await
    }

    async fn open_over(
        &self,
        request: ConnectRequest,
        plans: Vec<TunnelPlan>,
        persistence: Persistence,
        keeping: &Keeping,
        ask: Arc<dyn Ask>,
    ) -> KeepOutcome {
        let machine = request.machine.clone();
        let tunnels = TunnelsRequest {
            plans: plans.clone(),
            connect: self.connector(request, Some(ask)),
            persistence,
            hold: keeping.hold,
            login: None,
            probe: keeping.probe,
        };
        let typed = &keeping.wanted.typed;
        let (tunnels, mut ending) = match open(tunnels).await {
            Ok(opened) => opened,
            Err(failed) => {
                let trouble = Trouble::Opening(typed.clone(), failed, plans);
                return KeepOutcome::Failed((self.explain)(trouble));
            }
        };
        let board = tunnels.board().clone();
        tokio::select! {
            status = board.settled() => {
                let is_over = status.phase == LinkPhase::Over;
                let carries = status.tunnels.iter().any(|tunnel| tunnel.state == TunnelState::Carries);
                if is_over {
                    let trouble = Trouble::Reaching(typed.clone(), ending.await);
                    return KeepOutcome::Failed((self.explain)(trouble));
                }
                if !carries {
                    let mut explained = plain("no tunnel carries, so none is kept");
                    explained.details = status
                        .tunnels
                        .iter()
                        .filter_map(|tunnel| match &tunnel.state {
                            TunnelState::Fails(why) => Some(format!("{}: {why}", tunnel.name)),
                            _ => None,
                        })
                        .collect();
                    return KeepOutcome::Failed(explained);
                }
            }
            error = &mut ending => {
                return KeepOutcome::Failed((self.explain)(Trouble::Reaching(typed.clone(), error)));
            }
        }
        self.holder.take(Held { machine: machine.clone(), tunnels });
        let report = self.holder.reports().into_iter().rfind(|report| report.machine == machine);
        match report {
            Some(report) => KeepOutcome::Kept(Box::new(report)),
            None => KeepOutcome::Failed(plain("they were closed at once")),
        }
    }

    /// Connections of the pool; the first with a person to ask, when there is one.
    pub(crate) fn connector(&self, request: ConnectRequest, ask: Option<Arc<dyn Ask>>) -> Connect {
        let pool = self.pool.clone();
        let first = Arc::new(Mutex::new(ask));
        let is_locked = self.is_locked.clone();
        Arc::new(move || {
            let (pool, request) = (pool.clone(), request.clone());
            let person = first.lock().ok().and_then(|mut first| first.take());
            let is_locked = is_locked.load(Ordering::SeqCst);
            Box::pin(async move {
                if is_locked {
                    // Until it is unlocked: then the next try goes through.
                    let locked = Explained { is_final: false, ..plain("the keeper is locked") };
                    return Err(LinkError::Elsewhere(Box::new(locked)).into());
                }
                let nobody: &dyn Ask = &Nobody;
                let ask = person.as_deref().unwrap_or(nobody);
                Ok(pool.get(&request, ask).await?)
            })
        })
    }

    /// Ends what is not trusted any more, where the trust store has changed since it was looked at.
    pub(crate) fn check_trust(&self) {
        let changed = std::fs::metadata(self.home.file("trust.toml")).and_then(|file| file.modified()).ok();
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

    /// What has to be done now and then.
    pub(crate) fn tidy(self: &Arc<Self>) {
        if self.is_missing.swap(false, Ordering::SeqCst) {
            let again = self.clone();
            tokio::spawn(async move { again.open_at_start().await });
        }
        self.check_trust();
        self.pool.tidy(self.idle);
        self.holder.forget_over();
    }

    /// Opens the tunnels that the book says are to be open from the start, as far as they are not.
    pub(crate) async fn open_at_start(&self) {
        if self.is_locked.load(Ordering::SeqCst) {
            return;
        }
        let Ok(book) = MachineBook::load(&self.home) else { return };
        for (machine, _) in book.iter() {
            let Ok(target) = Target::find(&self.home, &book, machine) else { continue };
            let plans = named_plans(machine, &target.tunnels, &[], true).unwrap_or_default();
            let held = self.holder.names(machine);
            let wanted = |plan: &TunnelPlan| plan.tunnel.at_start && !held.contains(&plan.name);
            let plans: Vec<TunnelPlan> = plans.into_iter().filter(wanted).collect();
            let request = target.request(&self.home, &self.reach, target.keys(&self.reach), false);
            if let (false, Ok(request)) = (plans.is_empty(), request) {
                self.open_by_itself(machine, plans, request).await;
            }
        }
    }

    async fn open_by_itself(&self, machine: &str, plans: Vec<TunnelPlan>, request: ConnectRequest) {
        // One whose port is taken is no reason not to open the others.
        for plan in plans {
            // Only the book lets it listen for others, here where nobody is told.
            let Ok(plan) = plan.checked(false) else { continue };
            let tunnels = TunnelsRequest {
                plans: vec![plan],
                connect: self.connector(request.clone(), None),
                persistence: Persistence { give_up: None, from_start: true },
                hold: None,
                login: None,
                probe: true,
            };
            match open(tunnels).await {
                Ok((tunnels, _)) => {
                    self.holder.drop_over(machine);
                    self.holder.take(Held { machine: machine.to_owned(), tunnels });
                }
                Err(failed) => {
                    self.is_missing.store(true, Ordering::SeqCst);
                    debug!(error = %lantern_link::chain(&failed), "not opened at the start");
                }
            }
        }
    }

    /// Whether the keeper is locked: then nobody uses what it made.
    pub(crate) fn lock(&self, is_locked: bool) {
        self.is_locked.store(is_locked, Ordering::SeqCst);
        if is_locked {
            self.pool.close_all();
        }
    }

    /// Ends everything that was made for programs.
    pub(crate) fn end(&self) {
        self.holder.close_all();
        self.pool.close_all();
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
