//! Carrying a copy out: reaching the machines, planning, asking about what would go, and moving the bytes.

use std::io::IsTerminal;
use std::sync::Arc;

use lantern_book::Home;
use lantern_link::{FilesError, Remote};
use lantern_operations::copy::{
    CopyFault, CopyOptions, CopyWatch, Destination, Plan, Report, Same, Stop, carry_out, copy_in, copy_out,
    fetch_by_shell, plan, roots, send_by_shell,
};
use lantern_operations::files::{FileFault, Side, is_pattern, join, name_of};
use lantern_ssh::sftp::FileKind;

use super::jobs::{End, Job, Task};
use crate::cli::copy::CopyArgs;
use crate::commands::connecting::connect;
use crate::commands::errand::Errand;
use crate::commands::places::{check_modes, files_of, reach};
use crate::screen::copy::board::Board;
use crate::screen::copy::{plan as plan_view, report, shown};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::confirm;

/// Whoever carries copies out, with all that is the same for them.
pub(super) struct Worker {
    pub(super) home: Home,
    pub(super) args: CopyArgs,
    pub(super) options: CopyOptions,
    pub(super) ask: TerminalAsk,
    pub(super) board: Arc<Board>,
    pub(super) stop: Arc<Stop>,
}

/// What is ready to be carried out.
pub(super) struct Ready {
    pub(super) from: Side,
    pub(super) to: Side,
    pub(super) plan: Plan,
    /// What was reached for this alone.
    pub(super) own: Vec<Option<Side>>,
}

impl Worker {
    /// Does it; the exit status.
    pub(super) async fn work(self: &Arc<Self>, task: Task) -> Result<u8, Failure> {
        match task {
            Task::Files { errands, jobs } => self.files(errands, jobs).await,
            Task::In { errand, path } => {
                if std::io::stdin().is_terminal() {
                    output::say("Reading what is typed; Ctrl-D ends it.");
                }
                let side = self.reach(&errand).await?;
                let watch: Arc<dyn CopyWatch> = self.board.watch(0);
                let input = tokio::io::stdin();
                let moved = copy_in(input, &side, &path, &self.options, watch, &self.stop).await;
                side.leave().await;
                self.end_of_stream(moved)
            }
            Task::Out { errand, path } => {
                let side = self.reach(&errand).await?;
                let watch: Arc<dyn CopyWatch> = match std::io::stdout().is_terminal() {
                    // What is copied is on the screen.
                    true => Arc::new(()),
                    false => self.board.watch(0),
                };
                let moved = copy_out(&side, &path, tokio::io::stdout(), watch, &self.stop).await;
                side.leave().await;
                self.end_of_stream(moved)
            }
        }
    }

    fn end_of_stream(
        &self,
        moved: Result<lantern_operations::copy::Moved, CopyFault>,
    ) -> Result<u8, Failure> {
        self.board.end();
        match moved {
            Ok(_) => Ok(0),
            Err(CopyFault::Stopped) => Err(Failure::new(code::INTERRUPTED, "interrupted")),
            Err(fault) if report::reader_is_gone(&fault) => Err(Failure::quiet(0)),
            Err(fault) => Err((&fault).into()),
        }
    }

    pub(super) async fn reach(&self, errand: &Errand) -> Result<Side, Failure> {
        reach(&self.home, errand, self.args.acting.other.as_deref(), &self.ask).await
    }

    /// The same; where the machine has no file service, what is left is its shell.
    async fn reach_or_shell(&self, errand: &Errand) -> Result<Result<Side, Remote>, Failure> {
        let remote = connect(&self.home, &errand.target, &errand.options, &self.ask).await?;
        let acts_as = self.args.acting.other.as_deref();
        match files_of(remote.clone(), &errand.target, acts_as, &self.ask).await? {
            Ok(side) => Ok(Ok(side)),
            Err(FileFault::There(FilesError::NoService { .. })) if remote.trunk().is_some() => {
                Ok(Err(remote))
            }
            Err(fault) => Err((&fault).into()),
        }
    }

    /// One file by plain commands.
    async fn by_shell(&self, job: &Job, remote: &Remote, machines: usize) -> Result<u8, Failure> {
        let machine = remote.machine();
        let refuse = |what: &str| {
            Err(Failure::from(&FilesError::NoService { machine: machine.to_owned() })
                .detail(format!("without it, single files go by plain commands, and {what}")))
        };
        let ([path], 1) = (job.paths.as_slice(), machines) else { return refuse("this is more than one") };
        let options = &self.options;
        let compares = options.verify || options.keep_existing || options.same == Same::ByContent;
        if is_pattern(path) || options.mirror || self.args.plan || compares {
            return refuse("patterns, plans, mirrors and comparisons do not");
        }
        output::warn(format!("{machine} has no file service: the file goes by plain commands of its shell"));
        let watch = self.board.watch(0);
        let moved = match job.to {
            End::There(_) => {
                let known = Side::Here.look(path, true).await.map_err(|fault| Failure::from(&fault))?;
                match known.map(|known| known.kind()) {
                    None => {
                        return Err(Failure::new(
                            code::LOCAL,
                            format!("there is no {} on this computer", shown(path)),
                        ));
                    }
                    Some(FileKind::Folder) => return refuse("this is a folder"),
                    Some(_) => {
                        send_by_shell(path, remote, &job.destination, options, &*watch, &self.stop).await
                    }
                }
            }
            End::Here => {
                let there =
                    Side::Here.look(&job.destination, true).await.map_err(|fault| Failure::from(&fault))?;
                let to = match there.map(|there| there.kind()) {
                    Some(FileKind::Folder) => join(&job.destination, name_of(path)),
                    _ => job.destination.clone(),
                };
                fetch_by_shell(remote, path, &to, options, &*watch, &self.stop).await
            }
        };
        self.board.end();
        let mut report = Report::default();
        match moved {
            Ok(moved) => (report.copied, report.bytes) = (1, moved.bytes),
            Err(CopyFault::Stopped) => report.stopped = true,
            Err(fault) => return Err((&fault).into()),
        }
        self.tell(&[(job.label.clone(), Ok(report))])
    }

    async fn files(self: &Arc<Self>, errands: Vec<Arc<Errand>>, jobs: Vec<Job>) -> Result<u8, Failure> {
        if let [job] = jobs.as_slice() {
            let mut sides = Vec::new();
            for errand in &errands {
                match self.reach_or_shell(errand).await? {
                    Ok(side) => sides.push(Some(side)),
                    Err(remote) => return self.by_shell(job, &remote, errands.len()).await,
                }
            }
            let outcome = self.one(job, &sides).await;
            leave(sides).await;
            return outcome;
        }
        self.many(errands, jobs).await
    }

    async fn one(&self, job: &Job, sides: &[Option<Side>]) -> Result<u8, Failure> {
        let (from, to) = (side(job.from, sides)?, side(job.to, sides)?);
        let ready = self.ready(job, from, to, 0).await?;
        if self.args.plan {
            return plan_view::print(&[(job.label.clone(), ready.plan)], self.board.is_json());
        }
        self.agree(&[(&job.label, &ready.plan)]).await?;
        let report = self.carry(ready, 0).await;
        self.tell(&[(job.label.clone(), Ok(report))])
    }

    /// Plans a copy from one side to another.
    pub(super) async fn ready(
        &self,
        job: &Job,
        from: Side,
        to: Side,
        number: usize,
    ) -> Result<Ready, Failure> {
        if self.options.permissions.is_some() {
            check_modes(&to)?;
        }
        let destination = Destination::of(&job.destination);
        let watch = self.board.watch(number);
        let planned = async {
            let roots =
                roots(&from, &job.paths, &to, &destination).await.map_err(|error| Failure::from(&error))?;
            plan(&from, &to, &roots, &self.options, &*watch).await.map_err(|error| Failure::from(&error))
        };
        let plan = tokio::select! {
            plan = planned => plan?,
            () = self.stop.wanted() => return Err(Failure::new(code::INTERRUPTED, "interrupted")),
        };
        self.board.planned(number, &plan);
        Ok(Ready { from, to, plan, own: Vec::new() })
    }

    pub(super) async fn carry(&self, ready: Ready, number: usize) -> Report {
        let Ready { from, to, plan, own } = ready;
        let report =
            carry_out(&from, &to, plan, &self.options, self.board.watch(number), self.stop.clone()).await;
        drop((from, to));
        leave(own).await;
        report
    }

    /// Asks before something is removed.
    pub(super) async fn agree(&self, plans: &[(&String, &Plan)]) -> Result<(), Failure> {
        let removals: usize = plans.iter().map(|(_, plan)| plan.removals.len()).sum();
        if removals == 0 || self.args.yes {
            return Ok(());
        }
        const HINT: &str = "`--plan` lists it, `--yes` removes it without a question";
        if self.args.connect.no_questions {
            return Err(Failure::new(code::USAGE, "this removes files, which wants a yes").hint(HINT));
        }
        self.board.pause();
        plan_view::tell_removals(plans)?;
        let question = format!("Remove {}?", lantern_operations::counted(removals, "file or folder"));
        // The connections go on meanwhile.
        let asked = tokio::task::spawn_blocking(move || confirm::agree(&question, HINT)).await;
        asked.map_err(|_| Failure::new(code::INTERNAL, "the question broke off"))?
    }

    pub(super) fn tell(&self, outcomes: &[(String, Result<Report, Failure>)]) -> Result<u8, Failure> {
        self.board.end();
        report::tell(outcomes, self.board.is_json())
    }
}

/// One end of a copy, of those that are reached.
///
/// # Errors
/// It is not.
pub(super) fn side(end: End, sides: &[Option<Side>]) -> Result<Side, Failure> {
    match end {
        End::Here => Ok(Side::Here),
        End::There(at) => sides
            .get(at)
            .cloned()
            .flatten()
            .ok_or_else(|| Failure::new(code::INTERNAL, "a machine was not reached")),
    }
}

/// Ends what would stand on machines after us.
pub(super) async fn leave(sides: Vec<Option<Side>>) {
    for side in sides.into_iter().flatten() {
        side.leave().await;
    }
}
