//! `lantern certificate audit`: all that this computer made or trusts.

use std::borrow::Cow;

use jiff::Timestamp;
use lantern_book::Home;
use lantern_operations::certificates::{Audited, Standing, audit};
use serde_json::{Value, json};

use super::{certificate_json, until};
use crate::screen::certificate;
use crate::screen::failure::Failure;
use crate::screen::output;

/// Exit status when something is to be done.
const FOUND: u8 = 1;
/// Most machines that are named of one certificate.
const MAX_NAMES: usize = 4;

pub(super) fn run(home: &Home, json: bool) -> Result<u8, Failure> {
    let (all, broken) = audit(home, Timestamp::now().as_second())?;
    for error in &broken {
        output::warn(error.to_string());
    }
    if json {
        output::print_json(&all.iter().map(audited_json).collect::<Vec<Value>>())?;
    } else if all.is_empty() {
        output::say("No certificate was made here or is trusted.");
    } else {
        let rows = all.iter().map(|one| {
            let left = match one.days_left {
                left if left < 0 => "ended".to_owned(),
                left => format!("{left} days"),
            };
            [
                Cow::Owned(until(&one.certificate)),
                left.into(),
                certificate::holder(&one.certificate).into(),
                standing(one).into(),
                one.certificate.describe().into(),
                what_to_do(one).into(),
            ]
        });
        output::print(&output::table(&["UNTIL", "LEFT", "FOR", "WHAT IT IS", "KEY", "WHAT TO DO"], rows))?;
    }
    Ok(if broken.is_empty() && !all.iter().any(Audited::needs_attention) { 0 } else { FOUND })
}

fn audited_json(one: &Audited) -> Value {
    let mut value = certificate_json(&one.certificate);
    let of = |wanted: fn(&Standing) -> Option<&Vec<String>>| {
        one.standing.iter().find_map(wanted).cloned().unwrap_or_default()
    };
    value["made_as"] = json!(one.standing.iter().find_map(|standing| match standing {
        Standing::Made(name) => Some(name),
        _ => None,
    }));
    value["presented_by"] = json!(of(|standing| match standing {
        Standing::Presented(machines) => Some(machines),
        _ => None,
    }));
    value["believed_about"] = json!(of(|standing| match standing {
        Standing::Believed(machines) => Some(machines),
        _ => None,
    }));
    value["days_left"] = json!(one.days_left);
    value["faults"] = one.faults.iter().map(certificate::word).collect();
    value["revoked"] = json!(one.revoked);
    value
}

fn standing(one: &Audited) -> String {
    let some = |machines: &[String]| {
        let shown: Vec<&str> = machines.iter().take(MAX_NAMES).map(String::as_str).collect();
        match machines.len().saturating_sub(MAX_NAMES) {
            0 => shown.join(", "),
            more => format!("{} and {more} more", shown.join(", ")),
        }
    };
    let words = one.standing.iter().map(|standing| match standing {
        Standing::Made(name) => format!("made here: {name}"),
        Standing::Presented(machines) => format!("presented by {}", some(machines)),
        Standing::Believed(machines) => format!("believed about {}", some(machines)),
    });
    words.collect::<Vec<_>>().join("; ")
}

fn what_to_do(one: &Audited) -> String {
    if let Some(reason) = &one.revoked {
        return format!("revoked: {reason}");
    }
    let made = one.standing.iter().find_map(|standing| match standing {
        Standing::Made(name) => Some(name.as_str()),
        _ => None,
    });
    let faults: Vec<String> = one.faults.iter().map(certificate::words).collect();
    match (one.needs_attention(), made) {
        (false, _) => String::new(),
        (true, Some(name)) if faults.is_empty() || one.days_left < 0 => {
            match one.certificate.is_authority() {
                true => "lantern certificate new-authority NAME".to_owned(),
                false => format!("lantern certificate renew {name}"),
            }
        }
        (true, _) if faults.is_empty() => "ask for a new one: it ends soon".to_owned(),
        (true, _) => faults.join("; "),
    }
}
