//! `lantern tunnel open`

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use jiff::Timestamp;
use lantern_book::Home;
use lantern_keeper::{Held, Holder};
use lantern_link::{Ask, TunnelLogin};
use lantern_operations::login::Way;
use lantern_operations::tunnel::{
    Board, Connect, Ending, LinkPhase, LinkStatus, Persistence, TunnelPlan, TunnelState, TunnelsRequest,
    command_line, named_plans, open,
};
use lantern_operations::{OperationError, ReachOptions, Target};
use tokio::signal::unix::SignalKind;
use tokio::time::{sleep, timeout};

use super::failures::{of_opening, of_plan, typed_form};
use super::{browse, child};
use crate::cli::one_off::OneOffArgs;
use crate::cli::tunnel::open::OpenTunnelArgs;
use crate::commands::connecting::{asking, explain};
use crate::commands::descriptors::allow_many;
use crate::commands::errand::Errand;
use crate::commands::{block_on, watch};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::tunnel::live::{LiveTunnels, Told};
use crate::screen::tunnel::{json as as_json, words};
use crate::terminal::ask::TerminalAsk;
use crate::terminal::modes;

/// How often what passes is looked at.
const PACE: Duration = Duration::from_millis(500);
/// How long a page may take to be found out.
const LOOKING: Duration = Duration::from_secs(20);

pub(super) fn run(args: &OpenTunnelArgs, home: &Home, json: bool) -> Result<u8, Failure> {
    let errand = Errand::of(home, Some(&args.machine), &OneOffArgs::default(), &args.connect)?;
    let plans = plans(args, &errand.target)?;
    let then = then(args, &plans)?;
    for plan in plans.iter().filter(|plan| !plan.tunnel.listen.is_loopback()) {
        output::warn(format!(
            "{} listens at {}, for everybody who reaches that address.",
            plan.name, plan.tunnel.listen
        ));
    }
    let login = login(args)?;
    let ask = asking(&args.connect)?;
    if args.keep || args.wait || args.at_start {
        return super::keep::run(args, home, &errand, &plans, &ask, json);
    }
    // Each caller is one.
    allow_many();
    block_on(async {
        let give_up = args.give_up.map(|seconds| Duration::from_secs(seconds.into()));
        let request = TunnelsRequest {
            plans: plans.clone(),
            connect: connector(home, &errand.target, &errand.options, &ask),
            persistence: Persistence { give_up, from_start: false },
            hold: args.hold.map(Duration::from_secs),
            login,
            probe: !args.no_probe,
        };
        let (tunnels, ending) =
            open(request).await.map_err(|failed| of_opening(&failed, &plans, &args.machine))?;
        let board = tunnels.board().clone();
        let holder = Holder::new(false);
        holder.take(Held { machine: errand.target.name.clone(), tunnels });
        let (serving, its_home) = (holder.clone(), home.clone());
        tokio::spawn(async move { serving.serve(&its_home).await });
        let foreground = Foreground { args, home, target: &errand.target, ask: &ask, board, holder, json };
        let outcome = foreground.attend(ending, then).await;
        foreground.holder.close_all();
        outcome
    })
}

/// What is to be opened: by the book, or by options.
fn plans(args: &OpenTunnelArgs, target: &Target) -> Result<Vec<TunnelPlan>, Failure> {
    let machine = &args.machine;
    let Some(tunnel) = typed_form(&args.form)? else {
        return named_plans(&target.name, &target.tunnels, &args.names, args.wide)
            .map_err(|error| of_plan(&error, machine));
    };
    let name = match args.names.as_slice() {
        [] => tunnel.kind.word().to_owned(),
        [name] => name.clone(),
        _ => {
            return Err(Failure::new(code::USAGE, "a tunnel that is typed has one name")
                .hint("tunnels of the book are opened by their names alone"));
        }
    };
    let plan = TunnelPlan { name, tunnel };
    // Whoever types an address that others reach is told what opens it; there is no book to say it in.
    Ok(vec![plan.checked(args.wide).map_err(|error| {
        let mut failure = of_plan(&error, machine);
        failure.hints.retain(|hint| !hint.starts_with("always"));
        failure
    })?])
}

/// The command that is to run once the tunnel carries: that of the options, or its own.
fn then(args: &OpenTunnelArgs, plans: &[TunnelPlan]) -> Result<Option<(usize, String)>, Failure> {
    let Some(typed) = &args.then else { return Ok(None) };
    let own: Vec<usize> = match (typed.is_empty(), plans) {
        (false, [_]) => return Ok(Some((0, typed.clone()))),
        (false, _) => Vec::new(),
        (true, plans) => plans
            .iter()
            .enumerate()
            .filter(|(_, plan)| plan.tunnel.then.is_some())
            .map(|(index, _)| index)
            .collect(),
    };
    let machine = &args.machine;
    match own.as_slice() {
        [index] => Ok(plans.get(*index).and_then(|plan| Some((*index, plan.tunnel.then.clone()?)))),
        [] if typed.is_empty() => {
            Err(Failure::new(code::USAGE, "no tunnel that is opened has a command of its own")
                .hint("--then=COMMAND, with {address} and {port} where it listens")
                .hint(format!(
                    "or in the book: lantern tunnel set {machine} NAME --then 'COMMAND {{address}} {{port}}'"
                )))
        }
        _ => Err(Failure::new(code::USAGE, "one command runs, and several tunnels are opened")
            .hint(format!("name one: lantern tunnel open {machine} NAME --then"))),
    }
}

fn login(args: &OpenTunnelArgs) -> Result<Option<TunnelLogin>, Failure> {
    match (&args.login, &args.login_password_from) {
        (Some(user), Some(source)) => Ok(Some(TunnelLogin { user: user.clone(), password: source.read()? })),
        _ => Ok(None),
    }
}

/// Logs in: the first time with a person, who is not asked again when a link is made anew.
pub(super) fn connector(home: &Home, target: &Target, options: &ReachOptions, ask: &TerminalAsk) -> Connect {
    ask.is_for(target);
    ask.remember();
    let (home, target, options, ask) = (home.clone(), target.clone(), options.clone(), ask.clone());
    let is_first = Arc::new(AtomicBool::new(true));
    Arc::new(move || {
        let (home, target, options) = (home.clone(), target.clone(), options.clone());
        let ask = if is_first.load(Ordering::SeqCst) { ask.clone() } else { ask.unattended() };
        let is_first = is_first.clone();
        Box::pin(async move {
            let ask: &dyn Ask = &ask;
            let way = Way { home: &home, target: &target, options: &options, ask };
            let logged_in = way.log_in_as_usual().await;
            is_first.store(logged_in.is_err() && is_first.load(Ordering::SeqCst), Ordering::SeqCst);
            logged_in
        })
    })
}

/// Tunnels in the foreground.
struct Foreground<'a> {
    args: &'a OpenTunnelArgs,
    home: &'a Home,
    target: &'a Target,
    ask: &'a TerminalAsk,
    board: Arc<Board>,
    holder: Holder,
    json: bool,
}

impl Foreground<'_> {
    async fn attend(&self, mut ending: Ending, then: Option<(usize, String)>) -> Result<u8, Failure> {
        let status = self.settle(&mut ending).await?;
        let carries = |state: &TunnelState| *state == TunnelState::Carries;
        let failing: Vec<String> = status
            .tunnels
            .iter()
            .filter(|tunnel| !carries(&tunnel.state))
            .map(|tunnel| {
                format!("{}: {}", tunnel.name, words::trouble(tunnel).unwrap_or(words::state(tunnel)))
            })
            .collect();
        let runs = !self.args.command.is_empty() || then.is_some();
        if failing.len() == status.tunnels.len() || runs && !failing.is_empty() {
            let mut failure = Failure::new(code::SESSION, "not every tunnel carries");
            failure.details = failing;
            return Err(failure
                .hint("on the machine, the settings of its SSH service say what may be forwarded: AllowTcpForwarding, PermitListen, GatewayPorts")
                .hint(format!("lantern check {}", self.args.machine)));
        }
        if let Some((index, command)) = then {
            let at = status.tunnels.get(index).and_then(|tunnel| tunnel.listens());
            let Some(at) = at else { return Err(Failure::new(code::INTERNAL, "the tunnel listens nowhere")) };
            let line = ["sh".into(), "-c".into(), command_line(&command, &at).into()];
            return child::run(&line, &status).await;
        }
        if runs {
            return child::run(&self.args.command, &status).await;
        }
        if self.args.browse {
            self.browse().await;
        }
        self.watch(ending).await
    }

    /// Until every tunnel carries or is known not to.
    async fn settle(&self, ending: &mut Ending) -> Result<LinkStatus, Failure> {
        let mut interrupts = watch(SignalKind::interrupt())?;
        let interrupted = || Failure::new(code::INTERRUPTED, "interrupted");
        tokio::select! {
            status = self.board.settled() => match status.phase {
                LinkPhase::Over => Err(self.explain(ending.await)),
                _ => Ok(status),
            },
            error = &mut *ending => match self.ask.was_interrupted() {
                true => Err(interrupted()),
                false => Err(self.explain(error)),
            },
            _ = interrupts.recv() => Err(interrupted()),
        }
    }

    fn explain(&self, error: OperationError) -> Failure {
        explain(self.home, self.target, error)
    }

    async fn browse(&self) {
        let mut changes = self.board.changes();
        let found = timeout(LOOKING, async {
            loop {
                let tunnels = self.board.status().tunnels;
                if tunnels
                    .iter()
                    .all(|tunnel| tunnel.behind.is_some() || tunnel.tunnel().is_some_and(|t| t.to.is_none()))
                {
                    return tunnels;
                }
                let _ = changes.changed().await;
            }
        });
        let tunnels = found.await.unwrap_or_else(|_| self.board.status().tunnels);
        match tunnels.iter().find_map(words::url) {
            Some(url) => browse::browse(&url),
            None => output::warn("no web page was found behind it, so no browser is opened."),
        }
    }

    /// Shows them until they are closed.
    async fn watch(&self, mut ending: Ending) -> Result<u8, Failure> {
        let mut interrupts = watch(SignalKind::interrupt())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        let mut changes = self.board.changes();
        let mut shown = Shown::new(self.json);
        loop {
            shown.show(&self.target.name, &self.holder);
            if self.holder.reports().is_empty() {
                shown.clear();
                output::say("The tunnels were closed from elsewhere.");
                return Ok(0);
            }
            tokio::select! {
                _ = changes.changed() => {}
                () = sleep(PACE), if shown.is_live() => {}
                error = &mut ending => {
                    shown.show(&self.target.name, &self.holder);
                    shown.clear();
                    return Err(self.explain(error));
                }
                _ = interrupts.recv() => {
                    shown.clear();
                    output::say("The tunnels are closed.");
                    return Ok(0);
                }
                _ = terminations.recv() => {
                    shown.clear();
                    return Ok(128 + 15);
                }
                _ = hangups.recv() => return Ok(128 + 1),
            }
        }
    }
}

/// How they are shown: live, as JSON a line, or as news.
enum Shown {
    Live(LiveTunnels),
    Json(String),
    News(Told),
}

impl Shown {
    fn new(json: bool) -> Self {
        match (json, LiveTunnels::can_be_shown()) {
            (true, _) => Self::Json(String::new()),
            (false, true) => Self::Live(LiveTunnels::new(modes::size)),
            (false, false) => Self::News(Told::default()),
        }
    }

    fn is_live(&self) -> bool {
        matches!(self, Self::Live(_))
    }

    fn show(&mut self, machine: &str, holder: &Holder) {
        let reports = holder.reports();
        let Some(status) = reports.first().map(|report| &report.status) else { return };
        match self {
            Self::Live(live) => live.draw(&reports, "Ctrl-C closes them."),
            Self::News(told) => told.tell(machine, status),
            Self::Json(last) => {
                // What only counts is no news.
                let value = as_json::machine(machine, status, Timestamp::now());
                let news = format!(
                    "{:?}{:?}",
                    status.phase,
                    status
                        .tunnels
                        .iter()
                        .map(|tunnel| (&tunnel.state, &tunnel.at, &tunnel.behind, &tunnel.last_error))
                        .collect::<Vec<_>>()
                );
                if *last != news {
                    *last = news;
                    let _ = output::print_json_line(&value);
                }
            }
        }
    }

    fn clear(&mut self) {
        if let Self::Live(live) = self {
            live.clear();
        }
    }
}
