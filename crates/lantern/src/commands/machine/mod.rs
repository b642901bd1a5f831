//! `lantern machine`: the book.

mod add;
mod edit;
mod export;
mod import;
mod list;
mod prepare;
mod rename;
mod set;
mod show;

use lantern_book::{Effective, Field, FieldValue, Home, MachineBook, Use, json_schema};
use serde_json::{Map, Value, json};

use crate::cli::global::Global;
use crate::cli::machine::MachineCommand;
use crate::cli::settings;
use crate::screen::failure::Failure;
use crate::screen::output;

pub(crate) use set::differences;
pub(crate) use show::settings_table;

pub(crate) fn run(command: MachineCommand, global: &Global) -> Result<(), Failure> {
    let home = settings::home(global)?;
    let json = global.json;
    match command {
        MachineCommand::Add(args) => add::run(&args, &home, json),
        MachineCommand::Prepare(args) => prepare::run(&args, &home, json),
        MachineCommand::List(args) => list::run(&args, &home, json),
        MachineCommand::Show(args) => show::run(&args, &home, json),
        MachineCommand::Set(args) => set::run(&args, &home, json),
        MachineCommand::Edit(args) => edit::run(&args, &home, json),
        MachineCommand::Rename(args) => rename::rename(&args, &home, json),
        MachineCommand::Copy(args) => rename::copy(&args, &home, json),
        MachineCommand::Remove(args) => rename::remove(&args, &home, json),
        MachineCommand::Import(args) => import::run(&args, &home, json, global.verbose > 0),
        MachineCommand::Export(args) => export::run(&args, &home, json),
        MachineCommand::Schema => output::print_json(&json_schema()),
    }
}

/// A value as JSON.
pub(crate) fn value_json(value: &FieldValue) -> Value {
    match value {
        FieldValue::Text(text) => json!(text),
        FieldValue::Number(number) => json!(number),
        FieldValue::Flag(flag) => json!(flag),
        FieldValue::List(list) => json!(list),
        FieldValue::Map(map) => json!(map),
    }
}

/// All that holds for a machine as JSON.
pub(crate) fn machine_json(name: &str, effective: &Effective<'_>) -> Value {
    let mut fields: Map<String, Value> =
        effective.iter().map(|part| (part.field.name().replace('-', "_"), value_json(&part.value))).collect();
    fields.insert("name".into(), json!(name));
    // What scripts ask for most is always there, and in one form.
    fields.insert("address".into(), json!(effective.text(Field::Address)));
    fields.insert("addresses".into(), json!(effective.list(Field::Address)));
    fields.insert("port".into(), json!(effective.port()));
    fields.insert("protocol".into(), json!(effective.text(Field::Protocol).unwrap_or("ssh")));
    fields.insert("user".into(), json!(effective.text(Field::User)));
    fields.insert("key".into(), json!(effective.text(Field::Key)));
    fields.insert("keys".into(), json!(effective.list(Field::Key)));
    fields.insert("gateway".into(), json!(effective.list(Field::Gateway)));
    fields.insert("forward_agent".into(), json!(effective.flag(Field::ForwardAgent).unwrap_or(false)));
    fields.insert("tags".into(), json!(effective.list(Field::Tags)));
    fields.insert("note".into(), json!(effective.text(Field::Note)));
    Value::Object(fields)
}

/// When a machine was used and seen last, as JSON.
fn put_uses(value: &mut Value, noted: &Use) {
    value["last_used"] = json!(noted.used);
    value["last_seen"] = json!(noted.seen);
}

/// Checks that the keys of the ring and the machines that settings name are there: a slip is best told at once.
fn check_names(home: &Home, book: &MachineBook, settings: &lantern_book::Settings) -> Result<(), Failure> {
    let ring = lantern_book::KeyRing::new(home);
    for key in settings.list(Field::Key) {
        ring.get(key)?;
    }
    for gateway in settings.list(Field::Gateway) {
        if let lantern_book::Destination::Named(name) = lantern_book::Destination::parse(gateway)? {
            book.get(&name)?;
        }
    }
    settings.list(Field::Profiles).iter().try_for_each(|profile| book.profile(profile).map(drop))?;
    Ok(())
}
