//! `lantern key list`: the ring at a glance.

use lantern_book::{Home, KeyRing, KeySummary, MachineBook};
use lantern_operations::key_audit::{Level, problems_of_summary};
use serde_json::{Value, json};

use super::summary_json;
use crate::screen::failure::{Failure, chain};
use crate::screen::key_audit::short;
use crate::screen::output;

/// Of a key whose private file is not there.
const GONE: &str = "private file gone";

pub(super) fn run(home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let summaries = ring.summaries()?;
    let lost = ring.lost()?;
    let book = MachineBook::load(home)?;
    let users = book.users_of_keys();
    let users_of = |key: &str| users.get(key).map(Vec::as_slice).unwrap_or_default();
    if json {
        let mut values: Vec<Value> = summaries
            .iter()
            .map(|(name, summary)| {
                let mut value = match summary {
                    Ok(summary) => summary_json(summary, &ring),
                    Err(error) => json!({
                        "name": name, "private_file": ring.private_path(name), "error": chain(error),
                    }),
                };
                value["machines"] = json!(users_of(name));
                value
            })
            .collect();
        values.extend(lost.iter().map(|(name, public)| {
            json!({
                "name": name, "private_file": ring.private_path(name), "error": GONE,
                "fingerprint": public.fingerprint().to_string(), "machines": users_of(name),
            })
        }));
        return output::print_json(&values);
    }
    let mut entries = Vec::with_capacity(summaries.len());
    for (_, summary) in summaries {
        match summary {
            Ok(summary) => entries.push(summary),
            // One broken file is told and does not hide the others.
            Err(error) => output::warn(chain(&error)),
        }
    }
    if entries.is_empty() && lost.is_empty() {
        output::say(
            "The ring is empty. `lantern key new NAME` makes a key, `lantern key import FILE` takes one in.",
        );
        return Ok(());
    }
    let rows = entries.iter().map(|entry| row(entry, users_of(&entry.name)));
    let rows = rows.chain(lost.iter().map(|(name, public)| {
        let (algorithm, fingerprint) = (public.describe().into(), public.fingerprint().to_string().into());
        let (machines, state) = (machines_in_short(users_of(name)).into(), format!("! {GONE}").into());
        [name.as_str().into(), algorithm, fingerprint, "".into(), machines, state, "".into()]
    }));
    output::print(&output::table(
        &["NAME", "ALGORITHM", "FINGERPRINT", "MADE", "MACHINES", "STATE", "COMMENT"],
        rows,
    ))
}

fn row<'a>(entry: &'a KeySummary, users: &[&str]) -> [std::borrow::Cow<'a, str>; 7] {
    let made = entry.note.made.map(|made| made.strftime("%Y-%m-%d").to_string()).unwrap_or_default();
    let machines = machines_in_short(users);
    let problems = problems_of_summary(entry);
    let serious: Vec<&str> =
        problems.iter().filter(|problem| problem.level() == Level::Serious).map(short).collect();
    let state = match (serious.as_slice(), entry.is_protected()) {
        ([], true) => "passphrase".to_owned(),
        ([], false) => "no passphrase".into(),
        (serious, _) => format!("! {}", serious.join(", ")),
    };
    let own = [made, machines, state].map(std::borrow::Cow::from);
    let [made, machines, state] = own;
    let (name, comment) = (entry.name.as_str().into(), entry.comment.as_str().into());
    [name, entry.algorithm.as_str().into(), entry.fingerprint.as_str().into(), made, machines, state, comment]
}

/// One key may open hundreds of machines: one is named, the others counted.
fn machines_in_short(users: &[&str]) -> String {
    match users {
        [] => "-".to_owned(),
        [one] => (*one).to_owned(),
        [one, rest @ ..] => format!("{one} +{}", rest.len()),
    }
}
