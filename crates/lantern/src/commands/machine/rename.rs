//! `lantern machine rename`, `copy` and `remove`.

use lantern_book::{
    BookEdit, CertificateStore, Change, Field, Hints, Home, Imports, KeyRing, MachineBook, TrustStore, Uses,
    select,
};
use serde_json::json;

use super::machine_json;
use crate::cli::machine::rename::{CopyArgs, RemoveArgs, RenameArgs};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use lantern_operations::counted;

/// No machine is left out.
const NOTHING: &[&str] = &[];

/// Which machines get which names.
fn renames(book: &MachineBook, name: &str, new: &str) -> Result<Vec<(String, String)>, Failure> {
    let Some((before, after)) = name.split_once('*') else {
        book.get(name)?;
        return Ok(vec![(name.to_owned(), new.to_owned())]);
    };
    let Some((new_before, new_after)) = new.split_once('*').filter(|_| !after.contains('*')) else {
        return Err(Failure::new(code::USAGE, "both names must have one `*`"));
    };
    let pairs = select(book, &[name], NOTHING)?.into_iter().filter_map(|old| {
        let middle = old.strip_prefix(before)?.strip_suffix(after)?;
        let new = format!("{new_before}{middle}{new_after}");
        Some((old, new))
    });
    Ok(pairs.collect())
}

pub(super) fn rename(args: &RenameArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let pairs = renames(&book, &args.name, &args.new_name)?;
    let rows: Vec<Planned> =
        pairs.iter().map(|(old, new)| Planned::changed(old, "name", format!("→ {new}"))).collect();
    let question = format!("Rename {}?", counted(pairs.len(), "machine"));
    let goes_on = args.plan.settle(&rows, &question, pairs.len() > 1, json)?;
    if goes_on {
        // Trust is known under both names before the book has the new one: wherever this is stopped, no machine becomes a stranger.
        let trust = TrustStore::load(home)?;
        for (old, new) in pairs.iter().filter(|(_, new)| trust.has(new)) {
            if trust.get(new)? != trust.get(old)? {
                let text = format!("the trust store knows another machine as {new}");
                let hint = format!("if that one is gone: lantern trust forget {new}");
                return Err(Failure::new(code::LOCAL, text).hint(hint));
            }
        }
        // A dry run of the change first: what the book refuses must not leave traces elsewhere.
        MachineBook::try_edit(home, |edit: &mut BookEdit| {
            pairs.iter().try_for_each(|(old, new)| edit.rename_machine(old, new))
        })?;
        let names: Vec<(&str, &str)> = pairs.iter().map(|(old, new)| (old.as_str(), new.as_str())).collect();
        TrustStore::rename(home, &names, true)?;
        MachineBook::edit(home, |edit: &mut BookEdit| {
            pairs.iter().try_for_each(|(old, new)| edit.rename_machine(old, new))
        })?;
        TrustStore::rename(home, &names, false)?;
        Imports::rename(home, &names)?;
        CertificateStore::new(home).rename_machines(&names)?;
        for (old, new) in &pairs {
            Hints::of(home).rename(old, new)?;
            Uses::of(home).rename(old, new)?;
            rename_in_ring(home, old, new)?;
        }
    }
    if json {
        let values: Vec<_> = pairs.iter().map(|(old, new)| json!({ "name": old, "new_name": new })).collect();
        return output::print_json(&json!({ "renamed": goes_on, "machines": values }));
    }
    if goes_on {
        output::tell_changes(&rows)?;
    }
    Ok(())
}

/// Where keys are installed is noted by the machine's name.
fn rename_in_ring(home: &Home, old: &str, new: &str) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    for entry in ring.summaries()?.into_iter().filter_map(|(_, key)| key.ok()) {
        if entry.note.installed.iter().any(|place| place.machine == old) {
            ring.change_note(&entry.name, |note| {
                for place in note.installed.iter_mut().filter(|place| place.machine == old) {
                    place.machine = new.to_owned();
                }
            })?;
        }
    }
    Ok(())
}

pub(super) fn copy(args: &CopyArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let changes = args.changes.iter().map(|change| Change::parse(change)).collect::<Result<Vec<_>, _>>()?;
    let book = MachineBook::load(home)?;
    let pairs = renames(&book, &args.name, &args.new_name)?;
    let mut copies = Vec::new();
    for (old, new) in &pairs {
        let mut settings = book.get(old)?.clone();
        changes.iter().try_for_each(|change| settings.apply(change))?;
        copies.push((new, settings));
    }
    let rows: Vec<Planned> =
        pairs.iter().map(|(old, new)| Planned::new(new, format!("like {old}"))).collect();
    let question = format!("Add {}?", counted(pairs.len(), "machine"));
    let goes_on = args.plan.settle(&rows, &question, pairs.len() > 1, json)?;
    if goes_on {
        MachineBook::edit(home, |edit: &mut BookEdit| {
            copies.iter().try_for_each(|(name, settings)| edit.add_machine(name, settings))
        })?;
    }
    let after = MachineBook::load(home)?;
    if json {
        let added = copies.iter().filter(|_| goes_on);
        let values = added.map(|(name, _)| Ok(machine_json(name, &after.effective(name)?)));
        let values = values.collect::<Result<Vec<_>, lantern_book::BookError>>()?;
        return output::print_json(&values);
    }
    for ((old, new), (_, settings)) in pairs.iter().zip(&copies).filter(|_| goes_on) {
        output::say(format!("{new} is in the book, at {}.", after.effective(new)?.place()));
        if book.get(old)?.list(Field::Address) == settings.list(Field::Address) {
            output::say(format!("It has the address of {old}: lantern machine set {new} address=ADDRESS"));
        }
    }
    Ok(())
}

pub(super) fn remove(args: &RemoveArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let machines = select(&book, &args.machines.selection, &args.machines.but.except)?;
    for name in &machines {
        book.get(name)?;
        let mut users = book.iter().filter(|(user, settings)| {
            settings.list(Field::Gateway).contains(name) && !machines.iter().any(|gone| gone == user)
        });
        if let Some((user, _)) = users.next() {
            return Err(Failure::new(code::LOCAL, format!("{name} is the gateway of {user}"))
                .hint(format!("lantern machine set {user} gateway-={name}")));
        }
    }
    let place = |name: &String| book.effective(name).map(|effective| effective.place()).unwrap_or_default();
    let rows: Vec<Planned> = machines.iter().map(|name| Planned::gone(name, place(name))).collect();
    let question = match machines.as_slice() {
        [only] => format!("Remove {only}?"),
        several => format!("Remove {}?", counted(several.len(), "machine")),
    };
    let goes_on = args.plan.settle(&rows, &question, true, json)?;
    if goes_on {
        MachineBook::edit(home, |edit: &mut BookEdit| {
            machines.iter().try_for_each(|name| edit.remove_machine(name).map(drop))
        })?;
        machines.iter().try_for_each(|name| Uses::of(home).forget(name))?;
        Imports::forget(home, &machines)?;
    }
    if json {
        return output::print_json(&json!({ "removed": goes_on, "machines": machines }));
    }
    if let ([name], true) = (machines.as_slice(), goes_on) {
        output::say(format!(
            "{name} ({}) is out of the book. What it proved to be is kept; `lantern trust forget {name}` forgets that too.",
            place(name)
        ));
    } else if goes_on {
        output::say(format!(
            "{} are out of the book. What they proved to be is kept.",
            counted(machines.len(), "machine")
        ));
    }
    Ok(())
}
