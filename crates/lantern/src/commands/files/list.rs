//! `lantern files list`.

use std::sync::Arc;

use lantern_book::natural;
use lantern_operations::files::{Entry, Side, TreeError, join, name_of, walk};
use lantern_ssh::sftp::FileKind;

use super::{Reached, at_each, block_on, not_there};
use crate::cli::files::{ListArgs, Sort};
use crate::cli::global::Global;
use crate::commands::places::typed;
use crate::screen::failure::Failure;
use crate::screen::file_list::{Listed, by_name, print_json, print_names, print_table, print_tree};
use crate::screen::output;

pub(super) fn run(args: &ListArgs, global: &Global) -> Result<u8, Failure> {
    let mut all: Vec<Listed> = Vec::new();
    let mut machines = 0;
    let tree = args.tree;
    let act = move |reached: Arc<Reached>| async move {
        let (mut listed, mut failed) = (Vec::new(), Vec::new());
        for path in &reached.paths {
            match one(&reached, path, tree).await {
                Ok(more) => listed.extend(more),
                Err(failure) if reached.paths.len() > 1 => failed.push(failure),
                Err(failure) => return Err(failure),
            }
        }
        Ok((listed, failed))
    };
    let status = block_on(at_each(&args.at, global, act, async |reached, (listed, failed), _| {
        machines += 1;
        all.extend(listed);
        failed.iter().for_each(|failure| output::complain_of(&reached.machine, failure));
        Ok(failed.iter().map(|failure| failure.code).find(|code| *code != 0).unwrap_or(0))
    }))?;
    sort(&mut all, args);
    match () {
        () if global.json => print_json(&all)?,
        () if args.names => print_names(&all)?,
        () if args.tree => print_tree(&all, machines > 1)?,
        () => print_table(&all, machines > 1)?,
    }
    Ok(status)
}

/// What a path stands for: what is in a folder, or the file itself.
async fn one(reached: &Reached, path: &[u8], tree: bool) -> Result<Vec<Listed>, Failure> {
    let Reached { machine, side, paths } = reached;
    let Some(known) = side.look(path, false).await? else { return Err(not_there(machine, path)) };
    // A link that was named leads to what is meant, unless it is one of several.
    let behind = match known.kind() {
        FileKind::Link if paths.len() == 1 => side.look(path, true).await?.unwrap_or(known),
        _ => known,
    };
    let listed = |path: Vec<u8>, entry: Entry| Listed { machine: machine.clone(), path, entry, target: None };
    if behind.kind() != FileKind::Folder {
        let name = name_of(path).to_vec();
        let mut only = listed(path.to_vec(), Entry { name, attributes: known, line: Vec::new() });
        only.target = target(side, path, &only.entry).await;
        return Ok(vec![only]);
    }
    if tree {
        let mut faults = Vec::new();
        let items = walk(side, path, |below, fault| faults.push((below.to_vec(), fault)), |_| {}).await;
        let items = items.map_err(|error: TreeError| Failure::from(&error))?;
        for (below, fault) in faults {
            output::warn(format!("{}: {fault}", typed(machine, &below)));
        }
        let item = |item: lantern_operations::files::TreeItem| {
            let entry = Entry { name: item.below.clone(), attributes: item.attributes, line: Vec::new() };
            listed(join(path, &item.below), entry)
        };
        return Ok(items.into_iter().map(item).collect());
    }
    let mut all = Vec::new();
    let several = paths.len() > 1;
    for mut entry in side.list(path).await? {
        let full = join(path, &entry.name);
        let target = target(side, &full, &entry).await;
        if several {
            entry.name.clone_from(&full);
        }
        all.push(Listed { target, ..listed(full, entry) });
    }
    Ok(all)
}

/// Where a link leads; none where it cannot be read, or is none.
async fn target(side: &Side, path: &[u8], entry: &Entry) -> Option<Vec<u8>> {
    match entry.kind() {
        FileKind::Link => side.read_link(path).await.ok(),
        _ => None,
    }
}

fn sort(all: &mut [Listed], args: &ListArgs) {
    let size = |listed: &Listed| listed.entry.attributes.size.unwrap_or(0);
    let time = |listed: &Listed| listed.entry.attributes.times.map_or(0, |(_, changed)| changed);
    // Stable: what is equal stays in the order of names.
    all.sort_by(|one, other| {
        natural(&one.machine, &other.machine).then_with(|| by_name(&one.entry.name, &other.entry.name))
    });
    match args.sort {
        Sort::Name => {}
        Sort::Size => all.sort_by_key(|listed| std::cmp::Reverse(size(listed))),
        Sort::Time => all.sort_by_key(|listed| std::cmp::Reverse(time(listed))),
    }
    if args.reverse {
        all.reverse();
    }
}
