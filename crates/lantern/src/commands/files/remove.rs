//! `lantern files remove`.

use lantern_operations::counted;
use lantern_operations::files::{Side, TreeError, join, walk};
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
    block_on(at_each(&args.at, global, async |reached| {
        let Reached { machine, side, paths } = &reached;
        let mut all = Vec::new();
        for path in paths {
            all.extend(what_goes(side, machine, path, args.below).await?);
        }
        let row = |(path, folder): &(Vec<u8>, bool)| {
            Planned::gone(&format!("{machine}:{}", shown(path)), if *folder { "folder" } else { "" })
        };
        if args.plan {
            if global.json {
                let paths: Vec<_> = all.iter().map(|(path, _)| shown(path).into_owned()).collect();
                output::print_json_line(&serde_json::json!({ "machine": machine, "removals": paths }))?;
                return Ok(0);
            }
            output::plan(&all.iter().map(row).collect::<Vec<_>>(), true)?;
            return Ok(0);
        }
        if !args.yes {
            output::plan(&all.iter().take(MOST_TOLD).map(row).collect::<Vec<_>>(), false)?;
            if all.len() > MOST_TOLD {
                output::say(format!("and {} more; `--plan` lists them", all.len() - MOST_TOLD));
            }
            let question = format!("Remove {} on {machine}?", counted(all.len(), "file or folder"));
            let asked = tokio::task::spawn_blocking(move || confirm::agree(&question, HINT)).await;
            asked.map_err(|_| Failure::new(code::INTERNAL, "the question broke off"))??;
        }
        let (mut removed, mut failed) = (0, Vec::new());
        for (path, folder) in all {
            let done = if folder { side.remove_folder(&path).await } else { side.remove(&path).await };
            match done {
                Ok(()) => removed += 1,
                Err(fault) if fault.is_end() => return Err(fault.into()),
                Err(fault) => failed.push(fault),
            }
        }
        if let ([fault], 0) = (failed.as_slice(), removed) {
            return Err(fault.into());
        }
        tell(machine, global.json, "removed", removed, &failed)
    }))
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
