//! `lantern keeper status`: whether it runs and what it holds.

use std::borrow::Cow;
use std::time::Duration;

use lantern_book::{Home, KeyRing};
use lantern_keeper::{HeldKey, HolderAnswer, HolderRequest, LinkReport, Status, ask_all, socket_path};
use serde_json::{Value, json};

use crate::commands::block_on;
use crate::screen::failure::Failure;
use crate::screen::fit::fit;
use crate::screen::output;
use crate::screen::tunnel::words;

pub(super) fn run(home: &Home, json: bool) -> Result<(), Failure> {
    let status = super::state(home)?;
    let (links, tunnels) = block_on(async { Ok(beside_keys(home).await) })?;
    let ring = KeyRing::new(home);
    let entries: Vec<_> = ring.summaries()?.into_iter().filter_map(|(_, key)| key.ok()).collect();
    let name = |held: &HeldKey| {
        let entry = entries.iter().find(|entry| entry.is(&held.key));
        entry.map_or_else(|| held.comment.clone(), |entry| entry.name.clone())
    };
    if json {
        let mut value = status_json(status.as_ref(), home, name);
        if status.is_some() {
            value["connections"] = links.iter().map(link_json).collect();
            value["tunnels"] = json!(tunnels);
        }
        return output::print_json(&value);
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
    if !status.passwords.is_empty() {
        let rows = status.passwords.iter().map(|held| {
            let left = held
                .remaining
                .map_or("until it stops".into(), |seconds| format!("{} left", in_words(seconds)));
            [Cow::from(held.machine.as_str()), held.user.as_str().into(), left.into()]
        });
        text.end_line();
        text.push(output::table(&["PASSWORD FOR", "USER", "HELD"], rows));
    }
    if !links.is_empty() {
        let rows = links.iter().map(|link| {
            let seconds = |time: Duration| words::seconds(time);
            [
                Cow::from(link.machine.as_str()),
                link.user.as_str().into(),
                seconds(link.age).into(),
                link.idle.map_or("in use".into(), |idle| format!("unused for {}", seconds(idle))).into(),
                link.uses.to_string().into(),
                link.round_trip.map(words::milliseconds).unwrap_or_default().into(),
            ]
        });
        text.end_line();
        text.push(output::table(&["CONNECTION", "USER", "FOR", "STATE", "USES", "ROUND TRIP"], rows));
    }
    if tunnels > 0 {
        text.push(fit!(
            "\nIt keeps {}: lantern tunnel list\n",
            lantern_operations::counted(tunnels, "tunnel")
        ));
    }
    output::print(&text)
}

/// The connections that it holds, and how many tunnels.
async fn beside_keys(home: &Home) -> (Vec<LinkReport>, usize) {
    let ask = |request| async move { ask_all(home, &request).await.answers };
    let links = ask(HolderRequest::Links).await.into_iter().flat_map(|answer| match answer {
        HolderAnswer::Links(links) => links,
        _ => Vec::new(),
    });
    let links = links.collect();
    let kept = ask(HolderRequest::Status).await.into_iter().flat_map(|answer| match answer {
        HolderAnswer::Status(reports) => reports,
        _ => Vec::new(),
    });
    (links, kept.filter(|report| report.is_kept).map(|report| report.status.tunnels.len()).sum())
}

fn link_json(link: &LinkReport) -> Value {
    json!({
        "machine": link.machine,
        "user": link.user,
        "seconds": link.age.as_secs(),
        "idle_seconds": link.idle.map(|idle| idle.as_secs()),
        "uses": link.uses,
        "round_trip_ms": link.round_trip.map(|time| time.as_secs_f64() * 1e3),
    })
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
        "passwords": status.passwords.iter().map(|held| {
            json!({ "machine": held.machine, "user": held.user, "seconds_left": held.remaining })
        }).collect::<Vec<_>>(),
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
