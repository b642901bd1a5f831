//! `lantern tunnel open --keep`: tunnels that the keeper holds.

use std::time::Duration;

use jiff::Timestamp;
use lantern_book::{BookEdit, Change, Home, MachineBook, Place, Tunnel};
use lantern_keeper::{KeepError, Keeping, MachineReport, Wanted, has_connections, is_older, keep};
use lantern_link::Ask;
use lantern_operations::tunnel::{TunnelPlan, TunnelState};
use serde_json::json;

use super::browse;
use crate::cli::tunnel::open::OpenTunnelArgs;
use crate::commands::connecting::attend;
use crate::commands::errand::Errand;
use crate::commands::{block_on, keeper};
use crate::screen::failure::{Failure, code};
use crate::screen::fit::fit;
use crate::screen::output;
use crate::screen::tunnel::{json as as_json, words};
use crate::terminal::ask::TerminalAsk;

impl From<KeepError> for Failure {
    fn from(error: KeepError) -> Self {
        match error {
            KeepError::Failed(explained) => explained.into(),
            KeepError::NotRunning => Self::new(code::LOCAL, error.to_string()).hint("lantern keeper start"),
            KeepError::OtherVersion => Self::new(code::LOCAL, error.to_string())
                .hint("lantern keeper stop")
                .hint("then the same again: it is started anew"),
        }
    }
}

pub(super) fn run(
    args: &OpenTunnelArgs,
    home: &Home,
    errand: &Errand,
    plans: &[TunnelPlan],
    ask: &TerminalAsk,
    as_json_text: bool,
) -> Result<u8, Failure> {
    if args.at_start {
        note_in_book(home, &args.machine, plans)?;
    }
    if !has_connections(home) {
        if is_older(home) {
            return Err(KeepError::OtherVersion.into());
        }
        keeper::start_by_the_way(home)?;
    }
    let (target, options) = (&errand.target, &errand.options);
    ask.is_for(target);
    let request = target.request(home, options, target.keys(options), false)?;
    let at_hand = ask.password_at_hand(&target.name).then(|| target.name.clone());
    let wanted = Wanted::new(&args.machine, &request, at_hand)
        .ok_or_else(|| Failure::new(code::USAGE, "the keeper cannot make such a connection"))?;
    let give_up = args.give_up.map(|seconds| Duration::from_secs(seconds.into()));
    let hold = args.hold.map(Duration::from_secs);
    let keeping = Keeping::new(wanted, plans).with(give_up, hold, !args.no_probe);
    let report = block_on(async { Ok(attend(target, ask, keep(home, &keeping, ask)).await??) })?;
    tell(&report, plans, as_json_text)?;
    if args.browse {
        // It looks behind them after they carry.
        block_on(browse_kept(home, &report.machine, plans))?;
    }
    let carries = |plan: &&TunnelPlan| {
        report.status.tunnels.iter().any(|one| one.name == plan.name && one.state == TunnelState::Carries)
    };
    match plans.iter().filter(carries).count() == plans.len() {
        true => Ok(0),
        false if args.wait => Err(Failure::quiet(code::SESSION)),
        false => Ok(0),
    }
}

/// Notes that the keeper opens these by itself, where the machine itself has them.
fn note_in_book(home: &Home, machine: &str, plans: &[TunnelPlan]) -> Result<(), Failure> {
    let changes = plans
        .iter()
        .filter(|plan| !plan.tunnel.at_start)
        .map(|plan| {
            let tunnel = Tunnel { at_start: true, ..plan.tunnel.clone() };
            Change::parse(&format!("tunnels.{}={tunnel}", plan.name))
        })
        .collect::<Result<Vec<_>, _>>()?;
    if changes.is_empty() {
        return Ok(());
    }
    Ok(MachineBook::edit(home, |edit: &mut BookEdit| edit.change(Place::Machine(machine), &changes))?)
}

fn tell(report: &MachineReport, plans: &[TunnelPlan], as_json_text: bool) -> Result<(), Failure> {
    let mut status = report.status.clone();
    status.tunnels.retain(|tunnel| plans.iter().any(|plan| plan.name == tunnel.name));
    if as_json_text {
        let mut value = as_json::machine(&report.machine, &status, Timestamp::now());
        value["process"] = json!(report.process);
        value["kept"] = json!(true);
        return output::print_json(&value);
    }
    for tunnel in &status.tunnels {
        let trouble = match &tunnel.state {
            TunnelState::Fails(why) => format!(": {why}"),
            _ => String::new(),
        };
        output::say(fit!(
            "{} {}{}: {} → {}",
            tunnel.name,
            words::state(tunnel),
            trouble,
            words::listens(tunnel, &report.machine),
            words::leads(tunnel, &report.machine)
        ));
    }
    output::say(fit!("The keeper holds them. To close them: lantern tunnel close {}", report.machine));
    Ok(())
}

async fn browse_kept(home: &Home, machine: &str, plans: &[TunnelPlan]) -> Result<(), Failure> {
    use lantern_keeper::{HolderAnswer, HolderRequest, ask_all};
    let names = plans.iter().map(|plan| plan.name.clone()).collect();
    let told = ask_all(home, &HolderRequest::Probe { machine: Some(machine.to_owned()), names }).await;
    let reports = told.answers.into_iter().flat_map(|answer| match answer {
        HolderAnswer::Status(reports) => reports,
        _ => Vec::new(),
    });
    let tunnels = reports.filter(|report| report.machine == machine).flat_map(|report| report.status.tunnels);
    let url = tunnels
        .filter(|tunnel| plans.iter().any(|plan| plan.name == tunnel.name))
        .find_map(|tunnel| words::url(&tunnel));
    match url {
        Some(url) => browse::browse(&url),
        None => output::warn("no web page was found behind it, so no browser is opened."),
    }
    Ok(())
}
