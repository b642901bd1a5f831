//! `lantern key list`: the ring at a glance.

use lantern_book::{Home, KeyRing, MachineBook, RingEntry};
use serde_json::json;

use super::audit::{Level, problems_of_entry};
use super::entry_json;
use crate::failure::{Failure, chain};
use crate::output;

pub(super) fn run(home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let mut entries = Vec::new();
    for entry in ring.all()? {
        match entry {
            Ok(entry) => entries.push(entry),
            // One broken file is told and does not hide the others.
            Err(error) => output::warn(&chain(&error)),
        }
    }
    let book = MachineBook::load(home)?;
    if json {
        let values: Vec<_> = entries
            .iter()
            .map(|entry| {
                let mut value = entry_json(entry);
                value["machines"] = json!(book.users_of_key(&entry.name).collect::<Vec<_>>());
                value
            })
            .collect();
        return output::print_json(&values);
    }
    if entries.is_empty() {
        output::say(
            "The ring is empty. `lantern key new NAME` makes a key, `lantern key import FILE` takes one in.",
        );
        return Ok(());
    }
    let rows = entries.iter().map(|entry| row(entry, &book));
    output::print(&output::table(
        &["NAME", "ALGORITHM", "FINGERPRINT", "MADE", "MACHINES", "STATE", "COMMENT"],
        rows,
    ))
}

fn row<'a>(entry: &'a RingEntry, book: &MachineBook) -> [std::borrow::Cow<'a, str>; 7] {
    let made = entry.note.made.map(|made| made.strftime("%Y-%m-%d").to_string()).unwrap_or_default();
    // One key may open hundreds of machines: a few are named, the others counted.
    let users: Vec<&str> = book.users_of_key(&entry.name).collect();
    let machines = match users.as_slice() {
        [] => "-".to_owned(),
        [one] => (*one).to_owned(),
        [one, rest @ ..] => format!("{one} +{}", rest.len()),
    };
    let problems = problems_of_entry(entry);
    let serious: Vec<&str> = problems
        .iter()
        .filter(|problem| problem.level == Level::Serious)
        .map(|problem| problem.short)
        .collect();
    let state = match (serious.as_slice(), entry.sealed.is_protected()) {
        ([], true) => "passphrase".to_owned(),
        ([], false) => "no passphrase".into(),
        (serious, _) => format!("! {}", serious.join(", ")),
    };
    let fingerprint = entry.public.fingerprint().to_string();
    [entry.name.clone(), entry.public.describe(), fingerprint, made, machines, state, entry.comment.clone()]
        .map(Into::into)
}
