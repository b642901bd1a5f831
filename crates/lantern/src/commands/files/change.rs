//! `lantern files change` and `lantern files make-folder`.

use std::sync::Arc;

use lantern_operations::counted;
use lantern_operations::files::{
    FileFault, OwnerError, OwnerNumbers, Side, TreeError, join, parent_of, walk,
};
use lantern_ssh::sftp::{Attributes, FileKind};
use serde_json::json;

use super::{Reached, at_each, block_on, not_there};
use crate::cli::files::{ChangeArgs, MakeFolderArgs};
use crate::cli::global::Global;
use crate::commands::places::check_modes;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// Failures that are told one by one.
const MOST_TOLD: usize = 10;

pub(super) fn run(args: &ChangeArgs, global: &Global) -> Result<u8, Failure> {
    let order = Arc::new(args.clone());
    let act = move |reached: Arc<Reached>| {
        let args = order.clone();
        async move {
            if args.permissions.is_some() || args.owner.is_some() {
                check_modes(&reached.side)?;
            }
            let owner = match (&args.owner, &reached.side) {
                (Some(owner), Side::There(machine)) => Some(owner.on(&machine.remote).await?),
                _ => None,
            };
            let (mut changed, mut failed) = (0, Vec::new());
            for path in &reached.paths {
                change_all(&reached, path, (&args, owner), &mut changed, &mut failed).await?;
            }
            match (failed.as_slice(), changed) {
                ([fault], 0) => Err(fault.into()),
                _ => Ok((changed, failed)),
            }
        }
    };
    block_on(at_each(&args.at, global, act, async |reached, (changed, failed), _| {
        tell(&reached.machine, global.json, "changed", changed, &failed)
    }))
}

impl From<OwnerError> for Failure {
    fn from(error: OwnerError) -> Self {
        let words = error.to_string();
        match error {
            OwnerError::Link(error) => error.into(),
            OwnerError::Unknown { .. } => Self::new(code::SESSION, words),
            OwnerError::NoCommands { .. } => {
                Self::new(code::SESSION, words).hint("--owner 1000:1000 says it by numbers")
            }
        }
    }
}

/// Tells how many files something was done with, and what failed; the exit status.
pub(super) fn tell(
    machine: &str,
    json: bool,
    verb: &str,
    done: usize,
    failed: &[FileFault],
) -> Result<u8, Failure> {
    if json {
        let met: Vec<String> = failed.iter().map(ToString::to_string).collect();
        output::print_json_line(&json!({ "machine": machine, verb: done, "failed": met }))?;
    } else {
        for fault in failed.iter().take(MOST_TOLD) {
            output::complain_of(machine, &fault.into());
        }
        let more = failed.len().saturating_sub(MOST_TOLD);
        if more > 0 {
            output::warn(format!("and {} more failed; --json lists them", counted(more, "file")));
        }
        output::say(format!("{machine}: {} {verb}.", counted(done, "file or folder")));
    }
    Ok(u8::from(!failed.is_empty()))
}

async fn change_all(
    reached: &Reached,
    path: &[u8],
    (args, owner): (&ChangeArgs, Option<OwnerNumbers>),
    changed: &mut usize,
    failed: &mut Vec<FileFault>,
) -> Result<(), Failure> {
    let Reached { machine, side, .. } = reached;
    let Some(known) = side.look(path, true).await? else { return Err(not_there(machine, path)) };
    let mut all = vec![(path.to_vec(), known)];
    if args.below && known.kind() == FileKind::Folder {
        let items = walk(side, path, |_, fault| failed.push(fault), |_| {}).await;
        let items = items.map_err(|error: TreeError| Failure::from(&error))?;
        let files = items.into_iter().filter(|item| item.kind() != FileKind::Link);
        all.extend(files.map(|item| (join(path, &item.below), item.attributes)));
    }
    if owner.is_some_and(|owner| owner.of(known.owner).is_none()) {
        let text = format!("{machine} does not say whom {} belongs to", shown(path));
        return Err(Failure::new(code::SESSION, text).hint("--owner USER:GROUP says both"));
    }
    // What is below first: a folder may be closed to us once it has changed.
    for (path, known) in all.into_iter().rev() {
        let is_folder = known.kind() == FileKind::Folder;
        let attributes = Attributes {
            size: None,
            owner: owner.and_then(|owner| owner.of(known.owner)),
            // Whoever may read a folder's names may go into it.
            mode: args
                .permissions
                .map(|mode| if is_folder && args.below { mode | (mode & 0o444) >> 2 } else { mode }),
            times: args.time.map(|time| (known.times.map_or(time, |(read, _)| read), time)),
        };
        match side.change(&path, attributes, false).await {
            Ok(()) => *changed += 1,
            Err(fault) if fault.is_end() => return Err(fault.into()),
            Err(fault) => failed.push(fault),
        }
    }
    Ok(())
}

pub(super) fn make_folder(args: &MakeFolderArgs, global: &Global) -> Result<u8, Failure> {
    let (permissions, above) = (args.permissions, args.above);
    let act = move |reached: Arc<Reached>| async move {
        let Reached { machine, side, paths } = &*reached;
        if permissions.is_some() {
            check_modes(side)?;
        }
        let mut made = 0;
        for path in paths {
            let missing = missing(side, path, above).await?;
            if missing.is_empty() && !above {
                let text = format!("there is {} on {machine} already", shown(path));
                return Err(Failure::new(code::SESSION, text));
            }
            for folder in &missing {
                side.make_folder(folder, None).await?;
                made += 1;
            }
            if let Some(mode) = permissions {
                side.change(path, Attributes::with_mode(mode), false).await?;
            }
        }
        Ok(made)
    };
    block_on(at_each(&args.at, global, act, async |reached, made, _| {
        tell(&reached.machine, global.json, "made", made, &[])
    }))
}

/// The folders that are to be made, those above first.
async fn missing(side: &Side, path: &[u8], above: bool) -> Result<Vec<Vec<u8>>, Failure> {
    let mut missing = Vec::new();
    let mut path = path;
    while !path.is_empty() && path != b"/" && side.look(path, true).await?.is_none() {
        missing.push(path.to_vec());
        path = parent_of(path);
        if !above {
            break;
        }
    }
    missing.reverse();
    Ok(missing)
}
