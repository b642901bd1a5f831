//! What a copy would do.

use lantern_operations::copy::{Left, Plan};
use serde_json::{Value, json};

use super::report::reason;
use super::shown;
use crate::screen::failure::Failure;
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::screen::size::bytes;

/// Removals that are told one by one before a question.
const MOST_TOLD: usize = 20;

fn rows(label: Option<&str>, plan: &Plan) -> Vec<Planned> {
    let name = |path: &[u8]| match label {
        Some(label) => format!("{label}: {}", shown(path)),
        None => shown(path).into_owned(),
    };
    let mut rows = Vec::new();
    rows.extend(plan.folders.iter().map(|folder| Planned::new(&name(&folder.to), "folder")));
    rows.extend(plan.files.iter().map(|file| match file.replaces {
        Some(_) => Planned::changed(&name(&file.to), "", bytes(file.bytes())),
        None => Planned::new(&name(&file.to), bytes(file.bytes())),
    }));
    rows.extend(plan.links.iter().map(|link| match link.replaces {
        true => Planned::changed(&name(&link.to), "", "link"),
        false => Planned::new(&name(&link.to), "link"),
    }));
    rows.extend(
        plan.removals
            .iter()
            .map(|gone| Planned::gone(&name(&gone.path), if gone.folder { "folder" } else { "" })),
    );
    let left = plan.left.iter().filter(|(_, left)| *left != Left::Same);
    rows.extend(
        left.map(|(path, left)| Planned { what: "left", ..Planned::new(&name(path), reason(*left).1) }),
    );
    rows
}

fn value(label: &str, plan: &Plan) -> Value {
    let path = |path: &[u8]| shown(path).into_owned();
    json!({
        "machine": label,
        "files": plan.files.iter().map(|file| json!({
            "path": path(&file.to), "bytes": file.bytes(), "replaces": file.replaces.is_some(),
        })).collect::<Vec<_>>(),
        "folders": plan.folders.iter().map(|folder| path(&folder.to)).collect::<Vec<_>>(),
        "links": plan.links.iter().map(|link| path(&link.to)).collect::<Vec<_>>(),
        "removals": plan.removals.iter().map(|removal| path(&removal.path)).collect::<Vec<_>>(),
        "left": plan.left.iter().map(|(from, left)| json!({
            "path": path(from), "reason": reason(*left).0,
        })).collect::<Vec<_>>(),
        "bytes": plan.bytes(),
    })
}

/// Prints plans as the result.
///
/// # Errors
/// Nobody reads it.
pub(crate) fn print(plans: &[(String, Plan)], json: bool) -> Result<u8, Failure> {
    if json {
        output::print_json(&plans.iter().map(|(label, plan)| value(label, plan)).collect::<Vec<_>>())?;
        return Ok(0);
    }
    let several = plans.len() > 1;
    let all: Vec<Planned> =
        plans.iter().flat_map(|(label, plan)| rows(several.then_some(label.as_str()), plan)).collect();
    if all.is_empty() {
        output::say("Nothing is to be done: everything is there.");
        return Ok(0);
    }
    output::plan(&all, true)?;
    for (path, fault) in plans.iter().flat_map(|(_, plan)| &plan.faults) {
        output::warn(format!("{}: {fault}", shown(path)));
    }
    Ok(0)
}

/// Tells what would be removed, before that is asked about.
///
/// # Errors
/// None: it is talk.
pub(crate) fn tell_removals(plans: &[(&String, &Plan)]) -> Result<(), Failure> {
    let several = plans.len() > 1;
    let mut gone: Vec<Planned> = Vec::new();
    for (label, plan) in plans {
        let all = rows(several.then_some(label.as_str()), plan);
        gone.extend(all.into_iter().filter(|row| row.what == "gone"));
    }
    let more = gone.len().saturating_sub(MOST_TOLD);
    gone.truncate(MOST_TOLD);
    output::plan(&gone, false)?;
    if more > 0 {
        output::say(format!("and {more} more; `--plan` lists them"));
    }
    Ok(())
}
