//! `lantern trust look`: what machines present now.

use lantern_book::{Home, MachineBook, Presented, TrustStore, select};
use lantern_link::{KeyChoice, RemoteRequest, Seen};
use lantern_operations::Target;
use lantern_operations::trust::{Looked, Standing, look, standing};
use serde_json::{Value, json};

use super::presented_json;
use crate::cli::connect::ConnectArgs;
use crate::cli::trust::look::LookArgs;
use crate::screen::certificate;
use crate::screen::explain::code_of;
use crate::screen::failure::{Failure, chain, code};
use crate::screen::output;
use crate::screen::progress::Progress;

/// Looks at machines, with a bar of progress.
pub(super) async fn look_at(requests: Vec<RemoteRequest>) -> Vec<Looked> {
    let mut progress = Progress::start("looking at machines", requests.len());
    let looked = look(requests, || progress.step()).await;
    progress.end();
    looked
}

/// What the keys of one machine mean, in a word and a sentence.
fn in_words(standing: Standing) -> (&'static str, String) {
    match standing {
        Standing::Revoked { reason } => ("REVOKED", format!("refused because: {reason}")),
        Standing::PartlyKnown { unknown, all } => {
            ("known", format!("{unknown} of its {all} keys are not known yet"))
        }
        Standing::Moved { from } => ("moved", format!("same key, met before at {}", from.join(", "))),
        Standing::New { same_key } if !same_key.is_empty() => {
            ("new", format!("never met; the same key as {}", same_key.join(", ")))
        }
        Standing::New { .. } => ("new", "never met".into()),
        Standing::Changed { known, belongs_to } => {
            let was: Vec<_> = known.iter().map(|known| known.fingerprint().to_string()).collect();
            let whose = match belongs_to.as_slice() {
                [] => String::new(),
                names => format!("; this is the key of {}", names.join(", ")),
            };
            ("CHANGED", format!("it was {}{whose}", was.join(", ")))
        }
        Standing::Known => ("known", "as it was".into()),
    }
}

/// The requests for these targets; no user is needed to look.
pub(super) fn requests(
    home: &Home,
    targets: &[Target],
    args: &ConnectArgs,
) -> Result<Vec<RemoteRequest>, Failure> {
    let mut options = args.reach(home);
    // Whoever only looks logs in as nobody: that this computer names no user must not stand in the way.
    options.user.get_or_insert_with(|| "nobody".into());
    options.keys = Some(KeyChoice::Nothing);
    let request = |target: &Target| Ok(target.remote_request(home, &options)?);
    targets.iter().map(request).collect()
}

pub(super) async fn run(home: &Home, args: &LookArgs, json: bool) -> Result<u8, Failure> {
    let store = TrustStore::load(home)?;
    let book = MachineBook::load(home)?;
    let names = select(&book, &args.selection, &args.but.except)?;
    let targets =
        names.iter().map(|typed| Target::find(home, &book, typed)).collect::<Result<Vec<_>, _>>()?;
    let requests = requests(home, &targets, &args.connect)?;
    let seen = look_at(requests.clone()).await;
    let (mut rows, mut values, mut status) = (Vec::new(), Vec::new(), 0);
    for (request, outcome) in requests.iter().map(RemoteRequest::way).zip(seen) {
        let (state, detail, all, faults) = match &outcome {
            Ok(Seen { presented, faults }) => {
                let (state, detail) = in_words(standing(&store, request, presented)?);
                if matches!(state, "new" | "CHANGED" | "REVOKED") {
                    status = code::TRUST;
                }
                (state, detail, presented.as_slice(), faults.as_slice())
            }
            Err(error) => ("unreachable", chain(error), &[][..], &[][..]),
        };
        if let Err(error) = &outcome {
            status = status.max(code_of(error));
        }
        values.push(json!({
            "machine": request.machine,
            "address": request.place(),
            "state": state.to_lowercase(),
            "detail": detail,
            "key": all.first().map(presented_json),
            "keys": all.iter().map(presented_json).collect::<Vec<Value>>(),
            "faults": faults.iter().map(certificate::word).collect::<Vec<_>>(),
        }));
        if args.news && state == "known" && detail == "as it was" {
            continue;
        }
        let first = all.first();
        rows.push([
            request.machine.clone().into(),
            state.into(),
            first.map(Presented::describe).unwrap_or_default().into(),
            first.map(|one| one.fingerprint().to_string()).unwrap_or_default().into(),
            detail.into(),
        ]);
        for one in all.iter().skip(1) {
            let print = one.fingerprint().to_string();
            rows.push(["".into(), "".into(), one.describe().into(), print.into(), "".into()]);
        }
        for fault in faults.iter().filter(|_| state != "known") {
            let words = certificate::words(fault);
            rows.push(["".into(), "".into(), "".into(), "".into(), words.into()]);
        }
    }
    match json {
        true => output::print_json(&values)?,
        false if rows.is_empty() => output::say("All are as they were."),
        false => {
            output::print(&output::table(&["MACHINE", "STATE", "ALGORITHM", "FINGERPRINT", "DETAIL"], rows))?
        }
    }
    Ok(status)
}
