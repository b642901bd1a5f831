//! `lantern tunnel probe`

use std::borrow::Cow;

use jiff::Timestamp;
use lantern_book::{Home, TunnelKind};
use lantern_keeper::{HolderAnswer, HolderRequest, ask_all};
use lantern_operations::tunnel::{Behind, TunnelPlan, named_plans, probe_here, probe_there};
use serde_json::{Value, json};

use super::close::tell_silent;
use super::failures::of_plan;
use crate::cli::one_off::OneOffArgs;
use crate::cli::tunnel::list::ProbeTunnelArgs;
use crate::commands::block_on;
use crate::commands::connecting::{asking, connect};
use crate::commands::errand::Errand;
use crate::screen::failure::Failure;
use crate::screen::output;
use crate::screen::tunnel::{json as as_json, words};

/// Exit code: nothing answers behind one of them.
const FOUND: u8 = 1;

/// A tunnel that was looked behind.
struct Looked {
    name: String,
    to: String,
    is_open: bool,
    url: Option<String>,
    behind: Behind,
}

pub(super) fn run(args: &ProbeTunnelArgs, home: &Home, json: bool) -> Result<u8, Failure> {
    let mut looked = block_on(async { Ok(where_open(home, args).await) })?;
    let errand = Errand::of(home, Some(&args.machine), &OneOffArgs::default(), &args.connect)?;
    let target = &errand.target;
    let missing: Vec<String> =
        args.names.iter().filter(|name| !looked.iter().any(|one| one.name == **name)).cloned().collect();
    if !missing.is_empty() || args.names.is_empty() && (looked.is_empty() || !target.tunnels.is_empty()) {
        let plans = named_plans(&target.name, &target.tunnels, &missing, true)
            .map_err(|error| of_plan(&error, &args.machine))?;
        let others: Vec<TunnelPlan> =
            plans.into_iter().filter(|plan| !looked.iter().any(|one| one.name == plan.name)).collect();
        looked.extend(look(home, args, &errand, others)?);
    }
    let now = Timestamp::now();
    let is_bad = looked.iter().any(|one| !one.behind.answers());
    if json {
        let values: Vec<Value> = looked
            .iter()
            .map(|one| {
                json!({
                    "name": one.name, "to": one.to, "open": one.is_open, "url": one.url,
                    "behind": as_json::behind(&one.behind, now),
                })
            })
            .collect();
        output::print_json(&json!({ "machine": target.name, "tunnels": values }))?;
        return Ok(if is_bad { FOUND } else { 0 });
    }
    let rows = looked.iter().map(|one| {
        [
            Cow::Borrowed(one.name.as_str()),
            one.to.as_str().into(),
            words::behind(&one.behind, now).into(),
            one.url.clone().unwrap_or_default().into(),
        ]
    });
    output::print(&output::table(&["TUNNEL", "LEADS TO", "BEHIND IT", "URL"], rows))?;
    Ok(if is_bad { FOUND } else { 0 })
}

/// Those that are open are looked behind by whoever holds them.
async fn where_open(home: &Home, args: &ProbeTunnelArgs) -> Vec<Looked> {
    let request = HolderRequest::Probe { machine: Some(args.machine.clone()), names: args.names.clone() };
    let told = ask_all(home, &request).await;
    tell_silent(&told);
    let mut looked = Vec::new();
    for answer in told.answers {
        let HolderAnswer::Status(reports) = answer else { continue };
        for tunnel in
            reports.into_iter().filter(|report| report.machine == args.machine).flat_map(|r| r.status.tunnels)
        {
            let wanted = args.names.is_empty() || args.names.contains(&tunnel.name);
            let to = tunnel.tunnel().and_then(|parsed| parsed.to);
            if let (true, Some(to), Some(behind)) = (wanted, to, tunnel.behind.clone()) {
                let url = words::url(&tunnel);
                looked.push(Looked { name: tunnel.name, to: to.to_string(), is_open: true, url, behind });
            }
        }
    }
    looked
}

/// For the others, the machine is logged in to.
fn look(
    home: &Home,
    args: &ProbeTunnelArgs,
    errand: &Errand,
    plans: Vec<TunnelPlan>,
) -> Result<Vec<Looked>, Failure> {
    if plans.iter().all(|plan| plan.tunnel.to.is_none()) {
        if !plans.is_empty() {
            output::say("Behind a dynamic tunnel is whatever its callers ask for.");
        }
        return Ok(Vec::new());
    }
    let ask = asking(&args.connect)?;
    block_on(async {
        let remote = connect(home, &errand.target, &errand.options, &ask).await?;
        let mut looked = Vec::new();
        for TunnelPlan { name, tunnel } in plans {
            let Some(to) = &tunnel.to else { continue };
            let behind = match tunnel.kind {
                TunnelKind::Remote => probe_here(to).await,
                TunnelKind::Local | TunnelKind::Dynamic => {
                    probe_there(remote.trunk_for("tunnels")?, to).await
                }
            };
            looked.push(Looked { name, to: to.to_string(), is_open: false, url: None, behind });
        }
        remote.close().await;
        Ok(looked)
    })
}
