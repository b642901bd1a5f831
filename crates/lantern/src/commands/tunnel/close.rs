//! `lantern tunnel close`

use lantern_book::Home;
use lantern_keeper::{HolderAnswer, HolderRequest, Told, ask_all};
use serde_json::json;

use crate::cli::tunnel::list::CloseTunnelArgs;
use crate::commands::block_on;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

pub(super) fn run(args: &CloseTunnelArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let request = HolderRequest::Close { machine: args.machine.clone(), names: args.names.clone() };
    let told = block_on(async { Ok(ask_all(home, &request).await) })?;
    tell_silent(&told);
    let closed: Vec<(String, String)> = told
        .answers
        .into_iter()
        .flat_map(|answer| if let HolderAnswer::Closed(closed) = answer { closed } else { Vec::new() })
        .collect();
    let missing: Vec<&String> =
        args.names.iter().filter(|name| !closed.iter().any(|(_, closed)| closed == *name)).collect();
    if json {
        let closed: Vec<_> =
            closed.iter().map(|(machine, name)| json!({ "machine": machine, "name": name })).collect();
        output::print_json(&json!({ "closed": closed }))?;
    } else {
        for (machine, name) in &closed {
            output::say(format!("{machine}: {name} is closed."));
        }
    }
    match (closed.is_empty(), missing.as_slice(), &args.machine) {
        (true, [], None) => {
            output::say("No tunnel is open.");
            Ok(())
        }
        (_, [name, ..], Some(machine)) => {
            Err(Failure::new(code::LOCAL, format!("no tunnel {name} of {machine} is open"))
                .hint("lantern tunnel list --open"))
        }
        (true, _, Some(machine)) => Err(Failure::new(code::LOCAL, format!("no tunnel of {machine} is open"))
            .hint("lantern tunnel list --open")),
        _ => Ok(()),
    }
}

/// Tells of processes that did not say anything that is understood.
pub(super) fn tell_silent(told: &Told) {
    for name in &told.silent {
        let what = if name == "keeper" { "the keeper".to_owned() } else { format!("process {name}") };
        output::warn(format!("{what} holds tunnels, and does not answer."));
    }
    if told.answers.iter().any(|answer| matches!(answer, HolderAnswer::OtherVersion(_))) {
        output::warn(
            "a process of another version of lantern holds tunnels; end it and open them again to see them.",
        );
    }
}
