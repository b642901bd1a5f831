//! Tunnels that the keeper keeps: those that a program hands over, and those that the book has open from the start.

use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};

use lantern_book::MachineBook;
use lantern_link::{Ask, ConnectRequest, Explained, LinkError, Nobody};
use lantern_operations::Target;
use lantern_operations::tunnel::{
    Connect, LinkPhase, Persistence, TunnelPlan, TunnelState, TunnelsRequest, named_plans, open,
};
use tracing::debug;

use crate::errands::{Errands, Trouble};
use crate::holder::Held;
use crate::outcomes::KeepOutcome;
use crate::talk::{Gone, Talk, converse};
use crate::wanted::Keeping;

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
    /// A program wants tunnels kept.
    pub(crate) async fn keep_for(&self, keeping: Keeping, mut talk: Talk) {
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
        self.note_making(&request);
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
        self.note_making(&request);
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
}
