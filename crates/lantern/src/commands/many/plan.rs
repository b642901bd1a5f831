//! `lantern run --plan`: where it would run, how that is reached, and what would run.

use lantern_book::{Home, MachineBook, Protocol};
use lantern_operations::many::Work;
use lantern_operations::{ReachOptions, Target};
use serde_json::json;

use super::Order;
use crate::screen::failure::Failure;
use crate::screen::output;

pub(super) fn print(home: &Home, order: &Order, reach: &ReachOptions, json: bool) -> Result<u8, Failure> {
    let book = MachineBook::load(home)?;
    let mut rows = Vec::new();
    let mut values = Vec::new();
    for name in &order.names {
        let target = Target::find(home, &book, name)?.with_options(home, reach)?;
        let by = if target.protocol == Protocol::Winrm { "winrm" } else { "ssh" };
        let user = target.user(reach).unwrap_or_default();
        let through: Vec<String> = target.via.iter().map(|gateway| gateway.name.clone()).collect();
        let runs = match (&order.work, target.protocol) {
            (Work::Script(script), Protocol::Ssh) => format!("{} < {}", script.reader(), script.name),
            (Work::Script(script), Protocol::Winrm) => format!("a pipeline of {}", script.name),
            (Work::Command(_), _) => order.command.join(" "),
        };
        let acts_as = order.acts_as.as_ref().or(target.acts_as.as_ref());
        values.push(json!({
            "machine": name, "protocol": by, "place": target.place(), "user": user, "gateways": through, "as": acts_as, "runs": runs,
        }));
        rows.push([
            name.clone().into(),
            by.into(),
            match acts_as {
                Some(other) => format!("{user}, as {other}"),
                None => user,
            }
            .into(),
            target.place().into(),
            through.join(" then ").into(),
            runs.into(),
        ]);
    }
    match json {
        true => output::print_json(&values)?,
        false => output::print(&output::table(
            &["MACHINE", "BY", "USER", "ADDRESS", "GATEWAY", "WOULD RUN"],
            rows,
        ))?,
    }
    Ok(0)
}
