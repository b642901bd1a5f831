//! `lantern machine show`

use std::borrow::Cow;

use lantern_book::{Effective, FIELDS, Field, Home, MachineBook, Part, TrustStore, Uses, select};
use serde_json::{Value, json};

use super::{machine_json, put_uses, value_json};
use crate::cli::machine::show::ShowArgs;
use crate::cli::settings;
use crate::screen::ago::ago;
use crate::screen::failure::Failure;
use crate::screen::fit::{Fit, fit};
use crate::screen::output;

/// Fields that are shown with what holds even when nothing sets them.
const ALWAYS: &[Field] = &[Field::Address, Field::Port, Field::User, Field::Key, Field::Trust];

pub(super) fn run(args: &ShowArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let names = select(&book, &args.machines.selection, &args.machines.but.except)?;
    let trust = TrustStore::load(home)?;
    if json {
        let mut values = Vec::new();
        for name in &names {
            let effective = book.effective(name)?;
            let mut value = machine_json(name, &effective);
            let record = trust.get(name)?;
            value["host_keys"] = record.as_ref().map_or(json!([]), crate::commands::trust::keys_json);
            put_uses(&mut value, &Uses::of(home).get(name));
            value["line"] = json!(book.line(name));
            value["settings"] = effective.iter().map(setting_json).collect();
            values.push(value);
        }
        return output::print_json(&values);
    }
    for (at, name) in names.iter().enumerate() {
        if at > 0 {
            output::print(&Fit::literal("\n\n"))?;
        }
        print(name, &book, &trust, home, args.all)?;
    }
    Ok(())
}

fn print(name: &str, book: &MachineBook, trust: &TrustStore, home: &Home, all: bool) -> Result<(), Failure> {
    let effective = book.effective(name)?;
    let record = trust.get(name)?;
    let path = MachineBook::path(home);
    output::print(&fit!("{}  {}, line {}\n\n", name, path.display(), book.line(name)))?;
    output::print(&settings_table(&effective, all))?;
    let is_winrm = effective.text(Field::Protocol) == Some("winrm");
    let met = match &record {
        None => "never met: the next contact is the first".into(),
        Some(record) if is_winrm => Fit::stacked(record.certificates.iter().map(ToString::to_string)),
        Some(record) => Fit::stacked(record.keys.iter().map(ToString::to_string)),
    };
    let at = record.map(|record| record.addresses.join(", ")).unwrap_or_default();
    let noted = Uses::of(home).get(name);
    let when = |time: Option<jiff::Timestamp>| Fit::from(time.map(ago).unwrap_or_default());
    let pairs = [
        (if is_winrm { "certificate" } else { "host keys" }, met),
        ("met at", at.into()),
        ("last used", when(noted.used)),
        ("last seen", when(noted.seen)),
    ];
    output::print(&fit!("\n{}", output::fields(&pairs)))
}

fn setting_json(part: &Part<'_>) -> Value {
    json!({
        "field": part.field.name(),
        "value": value_json(&part.value),
        "from": part.origins().map(|o| json!({ "where": o.to_string(), "line": o.line() })).collect::<Vec<_>>(),
    })
}

/// Every setting with where it comes from.
pub(crate) fn settings_table(effective: &Effective<'_>, all: bool) -> Fit {
    let rows = FIELDS.iter().filter_map(|spec| {
        let name = Cow::Borrowed(spec.name);
        if let Some(part) = effective.part(spec.field) {
            let from: Vec<String> =
                part.origins().map(|origin| format!("{origin}, line {}", origin.line())).collect();
            return Some([name, part.value.to_string().into(), from.join("; ").into()]);
        }
        let fallback = match spec.field {
            Field::User => settings::local_user().unwrap_or_default(),
            Field::Port => effective.port().to_string(),
            _ => spec.fallback.to_owned(),
        };
        let shown = all || ALWAYS.contains(&spec.field);
        shown.then(|| {
            let from = if fallback.is_empty() { "not set" } else { "built in" };
            [name, fallback.into(), from.into()]
        })
    });
    output::table(&["FIELD", "VALUE", "FROM"], rows)
}
