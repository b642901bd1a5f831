//! Copies to and from several machines: so many at once, and what fails on one does not keep the others from it.

use std::sync::Arc;

use lantern_operations::copy::{Plan, Report};
use lantern_operations::files::Side;
use lantern_operations::many::{Halt, ManyOptions, each};

use super::jobs::{End, Job};
use super::work::{Ready, Worker, leave, side};
use crate::commands::errand::Errand;
use crate::commands::places::reach;
use crate::screen::copy::plan as plan_view;
use crate::screen::failure::{Failure, code};
use crate::terminal::ask::TerminalAsk;

/// How far one has come.
enum Step {
    /// It waits for a yes.
    Ready(Box<Ready>),
    Done(Box<Report>),
}

/// Copies that are under way together.
struct Crew {
    worker: Arc<Worker>,
    errands: Vec<Arc<Errand>>,
    jobs: Vec<Job>,
    /// What is reached already, since all of them need it.
    sides: Vec<Option<Side>>,
    /// Several at once cannot ask at one terminal; what was handed over is known.
    ask: TerminalAsk,
    /// Whether nothing is copied before all of it is planned.
    in_two_steps: bool,
}

fn interrupted() -> Failure {
    Failure::new(code::INTERRUPTED, "interrupted")
}

impl Worker {
    /// Copies of several machines.
    ///
    /// # Errors
    /// What all of them need cannot be reached; nobody agreed to what is to be removed.
    pub(super) async fn many(
        self: &Arc<Self>,
        errands: Vec<Arc<Errand>>,
        jobs: Vec<Job>,
    ) -> Result<u8, Failure> {
        let names: Vec<String> = errands.iter().map(|errand| errand.target.name.clone()).collect();
        // Before anything is reached: a password that was handed over is for all of them, also for the first.
        let ask = self.ask.for_many(&names);
        let is_source =
            |index: usize| jobs.iter().any(|job| job.from == End::There(index) && job.to != End::Here);
        let mut sides: Vec<Option<Side>> = Vec::new();
        for (index, errand) in errands.iter().enumerate() {
            // What all of them need is reached first, or nothing can be done.
            sides.push(match is_source(index) {
                true => Some(self.reach(errand).await?),
                false => None,
            });
        }
        let crew = Arc::new(Crew {
            worker: self.clone(),
            errands,
            jobs,
            ask,
            in_two_steps: self.args.plan || self.options.mirror,
            sides: sides.clone(),
        });
        let outcome = self.with_sources(&crew).await;
        drop(crew);
        leave(sides).await;
        outcome
    }

    async fn with_sources(&self, crew: &Arc<Crew>) -> Result<u8, Failure> {
        let labels: Vec<String> = crew.jobs.iter().map(|job| job.label.clone()).collect();
        let options = ManyOptions { at_once: usize::from(self.args.at_once), stop_after: None };
        // Those that have not begun when it is stopped say so themselves.
        let never = Halt::default();
        let first = |index: usize, _: &str| {
            let crew = crew.clone();
            async move { crew.first_step(index).await }
        };
        let steps = each(&labels, options, &never, first, |_, step| step.is_ok()).await;
        let mut outcomes = Vec::new();
        let mut waiting = Vec::new();
        for (index, (step, label)) in steps.into_iter().zip(&labels).enumerate() {
            match step.unwrap_or_else(|| Err(Failure::new(code::INTERNAL, "the copy broke off"))) {
                Ok(Step::Done(report)) => outcomes.push((label.clone(), Ok(*report))),
                Ok(Step::Ready(ready)) => waiting.push((index, label.clone(), ready)),
                Err(failure) => outcomes.push((label.clone(), Err(failure))),
            }
        }
        if self.args.plan {
            let mut plans = Vec::new();
            for (_, label, ready) in waiting {
                let Ready { from, to, plan, own } = *ready;
                plans.push((label, plan));
                drop((from, to));
                leave(own).await;
            }
            let status = plan_view::print(&plans, self.board.is_json())?;
            return if outcomes.is_empty() { Ok(status) } else { self.tell(&outcomes) };
        }
        let plans: Vec<(&String, &Plan)> =
            waiting.iter().map(|(_, label, ready)| (label, &ready.plan)).collect();
        if let Err(failure) = self.agree(&plans).await {
            for (_, _, ready) in waiting {
                leave(ready.own).await;
            }
            return Err(failure);
        }
        let left: Vec<String> = waiting.iter().map(|(_, label, _)| label.clone()).collect();
        let mut waiting = waiting.into_iter();
        let second = |_: usize, _: &str| {
            let (ready, worker) = (waiting.next(), crew.worker.clone());
            async move {
                match ready {
                    Some((index, _, ready)) => Some(worker.carry(*ready, index).await),
                    None => None,
                }
            }
        };
        let reports = each(&left, options, &never, second, |_, _| true).await;
        let broke_off = || Failure::new(code::INTERNAL, "the copy broke off");
        outcomes.extend(
            left.into_iter()
                .zip(reports)
                .map(|(label, report)| (label, report.flatten().ok_or_else(broke_off))),
        );
        self.tell(&outcomes)
    }
}

impl Crew {
    /// Reaches what this copy alone needs, and plans it; and carries it out, where nothing has to be agreed to.
    async fn first_step(&self, index: usize) -> Result<Step, Failure> {
        let Self { worker, jobs, in_two_steps, .. } = self;
        if worker.stop.is_wanted() {
            return Err(interrupted());
        }
        let Some(job) = jobs.get(index) else { return Err(Failure::new(code::INTERNAL, "no such copy")) };
        let mut only = Vec::new();
        let planned = async {
            let from = self.end(job.from, &mut only).await?;
            let to = self.end(job.to, &mut only).await?;
            worker.ready(job, from, to, index).await
        };
        let ready = match planned.await {
            Ok(ready) => Ready { own: only, ..ready },
            Err(failure) => {
                leave(only).await;
                return Err(failure);
            }
        };
        Ok(match in_two_steps {
            true => Step::Ready(Box::new(ready)),
            false => Step::Done(Box::new(worker.carry(ready, index).await)),
        })
    }

    /// One end of a copy; what is reached for this one alone is added to `only`.
    async fn end(&self, end: End, only: &mut Vec<Option<Side>>) -> Result<Side, Failure> {
        let Self { worker, errands, sides, ask, .. } = self;
        let errand = match end {
            End::There(at) if sides.get(at).is_some_and(Option::is_none) => errands.get(at),
            _ => None,
        };
        let Some(errand) = errand else { return side(end, sides) };
        let acts_as = worker.args.acting.other.as_deref();
        let reached = tokio::select! {
            reached = reach(&worker.home, errand, acts_as, ask) => reached?,
            () = worker.stop.wanted() => return Err(interrupted()),
        };
        only.push(Some(reached.clone()));
        Ok(reached)
    }
}
