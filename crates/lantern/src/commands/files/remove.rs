//! `lantern files remove`.

use std::sync::Arc;

use lantern_operations::counted;
use lantern_operations::files::{FileFault, Side, TreeError, join, walk};
use lantern_ssh::sftp::FileKind;

use super::change::tell;
use super::{Reached, at_each, block_on, not_there};
use crate::cli::files::RemoveArgs;
use crate::cli::global::Global;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::terminal::confirm;

/// What is told before the question.
const MOST_TOLD: usize = 20;
const HINT: &str = "`--plan` lists it, `--yes` removes it without a question";

pub(super) fn run(args: &RemoveArgs, global: &Global) -> Result<u8, Failure> {
    if args.at.connect.no_questions && !args.yes && !args.plan {
        let text = "this removes files, which wants a yes, and --no-questions forbids the question";
        return Err(Failure::new(code::USAGE, text).hint(HINT));
    }
    let (below, unasked) = (args.below, args.yes);
    let act = move |reached: Arc<Reached>| async move {
        let Reached { machine, side, paths } = &*reached;
        let mut all = Vec::new();
        for path in paths {
            all.extend(what_goes(side, machine, path, below).await?);
        }
        Ok(match unasked {
            true => Removal::Done(Removed::all(side, all).await?),
            false => Removal::Planned(all),
        })
    };
    block_on(at_each(&args.at, global, act, async |reached, removal, is_over| {
        let Reached { machine, side, .. } = reached;
        let removed = match removal {
            Removal::Done(removed) => removed,
            Removal::Planned(_) if is_over => return Ok(0),
            Removal::Planned(all) if args.plan => {
                show_plan(machine, &all, global.json)?;
                return Ok(0);
            }
            Removal::Planned(all) => {
                if !is_agreed(machine, &all).await? {
                    // About this machine; others are asked about for themselves.
                    output::say(format!("{machine}: nothing was removed."));
                    return Ok(code::INTERRUPTED);
                }
                Removed::all(side, all).await?
            }
        };
        tell(machine, global.json, "removed", removed.count, &removed.failed)
    }))
}

/// What is to go, by its path; whether it is a folder.
type Going = Vec<(Vec<u8>, bool)>;

enum Removal {
    Planned(Going),
    Done(Removed),
}

struct Removed {
    count: usize,
    failed: Vec<FileFault>,
}

impl Removed {
    async fn all(side: &Side, all: Going) -> Result<Self, Failure> {
        let mut removed = Self { count: 0, failed: Vec::new() };
        for (path, folder) in all {
            let done = if folder { side.remove_folder(&path).await } else { side.remove(&path).await };
            match done {
                Ok(()) => removed.count += 1,
                Err(fault) if fault.is_end() => return Err(fault.into()),
                Err(fault) => removed.failed.push(fault),
            }
        }
        match (removed.failed.as_slice(), removed.count) {
            ([fault], 0) => Err(fault.into()),
            _ => Ok(removed),
        }
    }
}

fn rows(machine: &str, all: &[(Vec<u8>, bool)]) -> Vec<Planned> {
    let row = |(path, folder): &(Vec<u8>, bool)| {
        Planned::gone(&format!("{machine}:{}", shown(path)), if *folder { "folder" } else { "" })
    };
    all.iter().map(row).collect()
}

fn show_plan(machine: &str, all: &[(Vec<u8>, bool)], json: bool) -> Result<(), Failure> {
    if json {
        let paths: Vec<_> = all.iter().map(|(path, _)| shown(path).into_owned()).collect();
        return output::print_json_line(&serde_json::json!({ "machine": machine, "removals": paths }));
    }
    output::plan(&rows(machine, all), true)
}

/// Asks before it goes.
async fn is_agreed(machine: &str, all: &[(Vec<u8>, bool)]) -> Result<bool, Failure> {
    output::plan(&rows(machine, all.get(..MOST_TOLD).unwrap_or(all)), false)?;
    if all.len() > MOST_TOLD {
        output::say(format!("and {} more; `--plan` lists them", all.len() - MOST_TOLD));
    }
    let question = format!("Remove {} on {machine}?", counted(all.len(), "file or folder"));
    let asked = tokio::task::spawn_blocking(move || confirm::ask(&question, HINT)).await;
    asked.map_err(|_| Failure::new(code::INTERNAL, "the question broke off"))?
}

/// What goes with a path, what is below first; whether each is a folder.
async fn what_goes(
    side: &Side,
    machine: &str,
    path: &[u8],
    below: bool,
) -> Result<Vec<(Vec<u8>, bool)>, Failure> {
    let Some(known) = side.look(path, false).await? else { return Err(not_there(machine, path)) };
    if known.kind() != FileKind::Folder {
        return Ok(vec![(path.to_vec(), false)]);
    }
    if !below {
        // An empty one goes as it is.
        if side.list(path).await?.is_empty() {
            return Ok(vec![(path.to_vec(), true)]);
        }
        return Err(Failure::new(
            code::USAGE,
            format!("{} on {machine} is a folder with something in it", shown(path)),
        )
        .hint("--below removes it with everything in it"));
    }
    let mut unseen = None;
    let items = walk(side, path, |_, fault| unseen = unseen.take().or(Some(fault)), |_| {}).await;
    let items = items.map_err(|error: TreeError| Failure::from(&error))?;
    // What cannot be seen cannot be shown before it goes.
    if let Some(fault) = unseen {
        return Err(fault.into());
    }
    let mut all: Vec<_> =
        items.iter().rev().map(|item| (join(path, &item.below), item.kind() == FileKind::Folder)).collect();
    all.push((path.to_vec(), true));
    Ok(all)
}
