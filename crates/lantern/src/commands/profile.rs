//! `lantern profile`: settings that machines share.

use std::borrow::Cow;

use lantern_book::{BookEdit, Change, Field, Home, MachineBook, Place, Settings};
use serde_json::{Value, json};

use super::machine::{differences, settings_table, value_json};
use crate::cli::global::Global;
use crate::cli::profile::{ChangeArgs, ProfileCommand, RemoveArgs};
use crate::cli::settings;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::fit;
use crate::screen::output;
use crate::screen::plan::Planned;

/// The name under which commands speak of what holds for all machines.
const DEFAULTS: &str = "defaults";

pub(crate) fn run(command: ProfileCommand, global: &Global) -> Result<(), Failure> {
    let home = settings::home(global)?;
    let json = global.json;
    match command {
        ProfileCommand::Add(args) => add(&args, &home, json),
        ProfileCommand::List => list(&home, json),
        ProfileCommand::Show(args) => show(&args.name, &home, json),
        ProfileCommand::Set(args) => set(&args, &home, json),
        ProfileCommand::Rename(args) => {
            MachineBook::edit(&home, |edit: &mut BookEdit| edit.rename_profile(&args.name, &args.new_name))?;
            done(json, &args.new_name, &format!("{} is called {} now.", args.name, args.new_name))
        }
        ProfileCommand::Remove(args) => remove(&args, &home, json),
    }
}

fn done(json: bool, name: &str, text: &str) -> Result<(), Failure> {
    if json {
        return output::print_json(&json!({ "profile": name }));
    }
    output::say(text);
    Ok(())
}

fn changes(args: &ChangeArgs) -> Result<Vec<Change>, Failure> {
    let changes = args.changes.iter().map(|text| Change::parse(text)).collect::<Result<Vec<_>, _>>()?;
    match changes.iter().find(|change| !change.field().is_shared()) {
        Some(change) => Err(Failure::new(
            code::USAGE,
            format!("`{}` belongs to one machine, and cannot be in a profile", change.field().name()),
        )),
        None => Ok(changes),
    }
}

fn add(args: &ChangeArgs, home: &Home, json: bool) -> Result<(), Failure> {
    if args.name == DEFAULTS {
        return Err(Failure::new(code::USAGE, "`defaults` is there already")
            .hint("lantern profile set defaults FIELD=VALUE"));
    }
    let mut profile = Settings::new();
    changes(args)?.iter().try_for_each(|change| profile.apply(change))?;
    if !args.plan.plan {
        MachineBook::edit(home, |edit: &mut BookEdit| edit.add_profile(&args.name, &profile))?;
    }
    done(
        json,
        &args.name,
        &format!("{} is in the book. Next: lantern machine set SELECTION profiles+={}", args.name, args.name),
    )
}

fn users<'b>(book: &'b MachineBook, name: &'b str) -> impl Iterator<Item = &'b str> {
    book.iter()
        .filter(move |(_, settings)| settings.list(Field::Profiles).iter().any(|p| p == name))
        .map(|(n, _)| n)
}

fn builds_on<'b>(book: &'b MachineBook, name: &'b str) -> impl Iterator<Item = &'b str> {
    book.profiles()
        .filter(move |(_, settings)| settings.list(Field::Profiles).iter().any(|p| p == name))
        .map(|(n, _)| n)
}

fn settings_json(settings: &Settings) -> Value {
    settings
        .iter()
        .map(|setting| (setting.field.name().replace('-', "_"), value_json(&setting.value)))
        .collect()
}

fn list(home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    if json {
        let profiles = book.profiles().map(|(name, settings)| {
            json!({ "name": name, "settings": settings_json(settings), "machines": users(&book, name).collect::<Vec<_>>() })
        });
        return output::print_json(&json!({
            "defaults": settings_json(book.defaults()), "profiles": profiles.collect::<Vec<_>>(),
        }));
    }
    let words = |settings: &Settings| {
        settings.iter().map(|s| format!("{}={}", s.field.name(), s.value)).collect::<Vec<_>>().join(" ")
    };
    let count = |name: &str| users(&book, name).count().to_string();
    let mut rows: Vec<[Cow<'_, str>; 3]> = Vec::new();
    if !book.defaults().is_empty() {
        rows.push([DEFAULTS.into(), "all".into(), words(book.defaults()).into()]);
    }
    rows.extend(
        book.profiles().map(|(name, settings)| [name.into(), count(name).into(), words(settings).into()]),
    );
    if rows.is_empty() {
        output::say("No profiles. `lantern profile add NAME FIELD=VALUE` adds one.");
        return Ok(());
    }
    output::print(&output::table(&["PROFILE", "MACHINES", "SAYS"], rows))
}

fn show(name: &str, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let effective = if name == DEFAULTS { book.effective_defaults() } else { book.effective_profile(name)? };
    if json {
        let settings: serde_json::Map<String, Value> = effective
            .iter()
            .map(|part| (part.field.name().replace('-', "_"), value_json(&part.value)))
            .collect();
        return output::print_json(&json!({
            "name": name, "settings": settings, "machines": users(&book, name).collect::<Vec<_>>(),
        }));
    }
    let rows = settings_table(&effective, false);
    output::print(&rows)?;
    let machines: Vec<&str> = users(&book, name).collect();
    output::print(&fit!("\n{}", output::fields(&[("machines", machines.join(", ").into())])))
}

fn set(args: &ChangeArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let changes = changes(args)?;
    if changes.is_empty() {
        return Err(Failure::new(code::USAGE, "say what to change")
            .hint(format!("lantern profile set {} user=keeper", args.name)));
    }
    let place = if args.name == DEFAULTS { Place::Defaults } else { Place::Profile(&args.name) };
    let book = MachineBook::load(home)?;
    let before = if args.name == DEFAULTS { book.defaults() } else { book.profile(&args.name)? };
    let mut after = before.clone();
    changes.iter().try_for_each(|change| after.apply(change))?;
    let (mut rows, mut values) = (Vec::new(), Vec::new());
    differences(&args.name, before, &after, &mut rows, &mut values);
    if !args.plan.plan {
        MachineBook::edit(home, |edit: &mut BookEdit| edit.change(place, &changes))?;
    }
    if json {
        return output::print_json(&json!({ "changed": !args.plan.plan, "changes": values }));
    }
    output::tell_changes(&rows)?;
    if rows.is_empty() {
        output::say("Nothing to change: it is so already.");
    }
    Ok(())
}

fn remove(args: &RemoveArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let name = args.name.as_str();
    let book = MachineBook::load(home)?;
    book.profile(name)?;
    let users: Vec<&str> = users(&book, name).chain(builds_on(&book, name)).collect();
    if !users.is_empty() {
        return Err(Failure::new(code::LOCAL, format!("{name} is taken over by {}", users.join(", ")))
            .hint(format!("lantern machine set {} profiles-={name}", users.join(","))));
    }
    let row = [Planned::gone(name, "")];
    if !args.plan.settle(&row, &format!("Remove the profile {name}?"), true, json)? {
        return Ok(());
    }
    MachineBook::edit(home, |edit: &mut BookEdit| edit.remove_profile(name))?;
    done(json, name, &format!("{name} is out of the book."))
}
