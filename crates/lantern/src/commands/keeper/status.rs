//! `lantern keeper status`: whether it runs and what it holds.

use std::borrow::Cow;

use lantern_book::{Home, KeyRing};
use lantern_keeper::{HeldKey, Status, socket_path};
use serde_json::{Value, json};

use crate::screen::failure::Failure;
use crate::screen::output;

pub(super) fn run(home: &Home, json: bool) -> Result<(), Failure> {
    let status = super::state(home)?;
    let ring = KeyRing::new(home);
    let entries: Vec<_> = ring.summaries()?.into_iter().filter_map(|(_, key)| key.ok()).collect();
    let name = |held: &HeldKey| {
        let entry = entries.iter().find(|entry| entry.is(&held.key));
        entry.map_or_else(|| held.comment.clone(), |entry| entry.name.clone())
    };
    if json {
        return output::print_json(&status_json(status.as_ref(), home, name));
    }
    let Some(status) = status else {
        output::say("The keeper does not run. `lantern keeper start` starts it.");
        return Ok(());
    };
    let state = match status.locked {
        true => "LOCKED: nothing is shown or used; `lantern keeper unlock` opens it",
        false => "open",
    };
    let memory = if status.memory_locked {
        "never swapped out"
    } else {
        "the system refused to lock it (see ulimit -l)"
    };
    let asks = if status.asks_by_program { "with a program" } else { "on the terminal that was last used" };
    let mut text = output::fields(&[
        ("keeper", format!("runs for {}, process {}", in_words(status.age), status.pid).into()),
        ("socket", socket_path(home).display().to_string().into()),
        ("state", state.into()),
        ("memory", memory.into()),
        ("asking", asks.into()),
    ]);
    if !status.keys.is_empty() {
        let rows = status.keys.iter().map(|held| {
            let left = held
                .remaining
                .map_or("until it stops".into(), |seconds| format!("{} left", in_words(seconds)));
            let asks = if held.confirm { "asks" } else { "freely" };
            [
                Cow::from(name(held)),
                held.key.describe().into(),
                held.key.fingerprint().to_string().into(),
                left.into(),
                asks.into(),
            ]
        });
        text.end_line();
        text.push(output::table(&["KEY", "ALGORITHM", "FINGERPRINT", "HELD", "EACH USE"], rows));
    }
    output::print(&text)
}

fn status_json(status: Option<&Status>, home: &Home, name: impl Fn(&HeldKey) -> String) -> Value {
    let Some(status) = status else { return json!({ "running": false }) };
    let key = |held: &HeldKey| {
        json!({
            "name": name(held),
            "algorithm": held.key.describe(),
            "fingerprint": held.key.fingerprint().to_string(),
            "comment": held.comment,
            "seconds_left": held.remaining,
            "confirm": held.confirm,
        })
    };
    json!({
        "running": true,
        "pid": status.pid,
        "seconds": status.age,
        "socket": socket_path(home),
        "locked": status.locked,
        "memory_locked": status.memory_locked,
        "asks_by_program": status.asks_by_program,
        "keys": status.keys.iter().map(key).collect::<Vec<_>>(),
    })
}

/// A time as people say it.
pub(super) fn in_words(seconds: u32) -> String {
    match seconds {
        0..=119 => format!("{seconds} s"),
        120..=7199 => format!("{} min", (seconds + 30) / 60),
        7200..=172_799 => format!("{} h", (seconds + 1800) / 3600),
        _ => format!("{} days", seconds / 86_400),
    }
}
