//! `lantern key rotate`: a new key takes the place of an old one, machine by machine. Every step looks at what is there
//! and does what is missing, so that after a failure at any point the same command goes on where it ended.

use std::sync::Arc;

use lantern_book::{Home, KeyRing, MachineBook, RingEntry, select};
use lantern_keys::container::Patience;
use lantern_keys::{KeyError, PrivateKey, SecretString};
use lantern_operations::rotate::{self, RotateError};
use lantern_operations::{ReachOptions, Target};
use serde_json::{Value, json};

use super::each::{Chosen, carry_out};
use super::install::not_proven;
use crate::cli::key::rotate::RotateArgs;
use crate::cli::open::OpenArgs;
use crate::commands::block_on;
use crate::commands::connecting::{asking, attend, explain, way};
use crate::commands::key_source::pick_opened;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::passphrase;
use lantern_operations::counted;

/// What has been done on one machine, for the report.
struct Done {
    machine: String,
    outcome: Result<(), Failure>,
}

pub(super) fn run(args: &RotateArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let old = ring.get(&args.name)?;
    let machines = machines(args, home, &old)?;
    let new_name = rotate::new_name(&ring, &old, args.new_name.as_deref())?;
    let exists = ring.private_path(&new_name).exists();
    let rows = plan(&args.name, &new_name, exists, &machines);
    if args.plan.plan {
        return tell(args, &new_name, exists, &machines, &rows, json);
    }
    if machines.is_empty() {
        return Err(Failure::new(code::USAGE, format!("nobody knows where {} is in use", args.name))
            .hint(format!("lantern key rotate {} SELECTION", args.name)));
    }
    let question = format!("Replace {} on {}?", args.name, counted(machines.len(), "machine"));
    args.plan.unasked(args.connect.no_questions, machines.len() > 1)?;
    args.plan.settle(&rows, &question, machines.len() > 1, json)?;
    let ask = asking(&args.connect)?;
    let new = make_new(args, &ring, &old, &new_name, &ask)?;
    let chosen = Chosen::these(home, &MachineBook::load(home)?, machines, &args.connect);
    let options = chosen.options.clone();
    let order = Arc::new(Order { args: args.clone(), home: home.clone(), options, old, new });
    let (old, new) = (&order.old, &order.new);
    let act = |machine: String, ask: TerminalAsk| rotate_one(order.clone(), machine, ask);
    let hear = |machine: &str, outcome: &Result<(), Failure>| match outcome {
        Ok(()) => output::say(format!("{machine}: {} is in, {} is out.", new.name, old.name)),
        Err(failure) => output::complain_of(machine, failure),
    };
    let outcomes = block_on(carry_out(&chosen, args.at_once, &ask, act, hear))?;
    let not_begun = || Err(Failure::new(code::INTERRUPTED, "not begun"));
    let done: Vec<Done> = chosen
        .names
        .into_iter()
        .zip(outcomes)
        .map(|(machine, outcome)| Done { machine, outcome: outcome.unwrap_or_else(not_begun) })
        .collect();
    report(args, home, old, new, &done, json)
}

/// What is done everywhere.
struct Order {
    args: RotateArgs,
    home: Home,
    options: ReachOptions,
    old: RingEntry,
    new: RingEntry,
}

/// The machines to work on: those named, else those that the ring and the book know of.
fn machines(args: &RotateArgs, home: &Home, old: &RingEntry) -> Result<Vec<String>, Failure> {
    let except = &args.but.except;
    if !args.selection.is_empty() {
        // All names first: a slip of the pen must not show half way.
        let names = select(&MachineBook::load(home)?, &args.selection, except)?;
        names.iter().try_for_each(|machine| Target::resolve(home, machine).map(drop))?;
        return Ok(names);
    }
    let mut names = rotate::machines_of(home, old)?;
    if !except.is_empty() {
        let left_out = select(&MachineBook::load(home)?, except, &[] as &[&str])?;
        names.retain(|name| !left_out.contains(name));
    }
    Ok(names)
}

/// What is to be done.
fn plan(old: &str, new: &str, exists: bool, machines: &[String]) -> Vec<Planned> {
    let key = match exists {
        true => {
            Planned { what: "kept", ..Planned::new(new, format!("made already to take the place of {old}")) }
        }
        false => Planned::new(new, format!("a key of the kind and with the passphrase of {old}")),
    };
    let change = |machine: &String| {
        Planned::changed(machine, "key", format!("{old} → {new}, once a login with it works"))
    };
    std::iter::once(key).chain(machines.iter().map(change)).collect()
}

/// Tells it, and nothing else.
fn tell(
    args: &RotateArgs,
    new: &str,
    exists: bool,
    machines: &[String],
    rows: &[Planned],
    json: bool,
) -> Result<(), Failure> {
    if json {
        return output::print_json(&json!({
            "old": args.name, "new": new, "new_exists": exists, "machines": machines,
        }));
    }
    if machines.is_empty() {
        output::say(format!("No machine is known to have {}; name some.", args.name));
    }
    output::plan(rows, true)
}

/// The new key: made unless an interrupted rotation has made it already. Its name is noted before it exists, so that it
/// is never made twice.
fn make_new(
    args: &RotateArgs,
    ring: &KeyRing,
    old: &RingEntry,
    name: &str,
    ask: &TerminalAsk,
) -> Result<RingEntry, Failure> {
    rotate::begin(ring, old, name)?;
    let missing = !ring.private_path(name).exists();
    if missing || old.sealed.is_protected() {
        // Both have one passphrase; asked for once, it serves for every login of this run.
        let (key, secret) = open_old(args, old, ask)?;
        if missing {
            let public = rotate::make(ring, &key, name, secret.as_ref())?;
            output::say(format!("{name} is made: {} {}.", public.describe(), public.fingerprint()));
        }
        if let Some(secret) = secret {
            ask.know_passphrase(&old.name, secret.clone());
            ask.know_passphrase(name, secret);
        }
    }
    Ok(ring.get(name)?)
}

/// The old key, opened with the passphrase that was handed over, or with one that is asked for.
fn open_old(
    args: &RotateArgs,
    old: &RingEntry,
    ask: &TerminalAsk,
) -> Result<(PrivateKey, Option<SecretString>), Failure> {
    let failed = |error| Failure::new(code::LOCAL, format!("cannot open {}: {error}", old.name));
    let given = ask.take_given_passphrase();
    if given.is_none() && args.connect.no_questions && old.sealed.is_protected() {
        return Err(failed(KeyError::PassphraseNeeded)
            .hint("`--passphrase-from SOURCE` reads it: fd:N, file:PATH or command:LINE"));
    }
    let (keys, passphrase) = match given {
        Some(given) => (old.sealed.open_all(Some(&given), Patience::Short).map_err(failed)?, Some(given)),
        None => {
            let nothing_given = OpenArgs { passphrase_from: None, patient: false };
            let opened = passphrase::open(&old.sealed, &old.name, &nothing_given)?;
            (opened.keys, opened.passphrase)
        }
    };
    Ok((pick_opened(keys, None, &old.name)?, passphrase))
}

async fn rotate_one(order: Arc<Order>, machine: String, ask: TerminalAsk) -> Result<(), Failure> {
    let Order { args, home, options, old, new } = &*order;
    let target = Target::resolve_with(home, &machine, options)?;
    let rotation = rotate::rotate_on(way(home, &target, options, &ask), old, new, args.connect.key.is_some());
    attend(&target, &ask, rotation).await?.map_err(|error| match error {
        RotateError::Operation(error) => explain(home, &target, error),
        error => error.into(),
    })
}

impl From<RotateError> for Failure {
    fn from(error: RotateError) -> Self {
        let words = error.to_string();
        match error {
            RotateError::Operation(error) => error.into(),
            RotateError::Begun { old, .. } => {
                Self::new(code::USAGE, words).hint(format!("lantern key rotate {old}"))
            }
            RotateError::MoreWanted { machine, new, old } => Self::new(code::LOGIN, words).hint(format!(
                "`lantern key install {new} {machine}` and `lantern key withdraw {old} {machine}` do it by hand"
            )),
            RotateError::NotProven { new, machine, source } => not_proven(words, &new, &machine, *source),
        }
    }
}

fn report(
    args: &RotateArgs,
    home: &Home,
    old: &RingEntry,
    new: &RingEntry,
    done: &[Done],
    json: bool,
) -> Result<(), Failure> {
    let failed: Vec<&Done> = done.iter().filter(|done| done.outcome.is_err()).collect();
    let installed = KeyRing::new(home).get(&old.name)?.note.installed;
    let named = MachineBook::load(home)?.users_of_key(&old.name).count();
    if json {
        let values: Vec<Value> = done
            .iter()
            .map(|done| {
                json!({
                    "machine": done.machine,
                    "done": done.outcome.is_ok(),
                    "error": done.outcome.as_ref().err().map(|failure| failure.headline.clone()),
                })
            })
            .collect();
        output::print_json(&json!({ "old": old.name, "new": new.name, "machines": values }))?;
    }
    if let Some(first) = failed.first().and_then(|done| done.outcome.as_ref().err()) {
        let mut failure = Failure::new(
            first.code,
            format!("{} of {} still have {}", failed.len(), counted(done.len(), "machine"), old.name),
        );
        failure.hints.push(format!("the same command goes on: lantern key rotate {}", args.name));
        return Err(failure);
    }
    if !json && installed.is_empty() && named == 0 {
        output::say(format!(
            "{} has taken the place of {} everywhere that is known. `lantern key remove {}` ends it.",
            new.name, old.name, old.name
        ));
    }
    Ok(())
}
