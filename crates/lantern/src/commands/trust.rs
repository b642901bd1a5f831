//! `lantern trust`: what each machine proved to be.

use std::borrow::Cow;

use clap::{Args, Subcommand};
use jiff::Timestamp;
use lantern_book::{Home, KnownKey, TrustRecord, TrustStore, TrustVerdict, Verified};
use lantern_keys::{Fingerprint, PublicKey};
use lantern_link::{Ask, FirstContact, HostKeyAnswer, LinkError, TimeLimits, TrustFailure, probe_host_key};
use serde_json::{Value, json};

use super::block_on;
use crate::ask::TerminalAsk;
use crate::cli::Global;
use crate::failure::{Failure, chain, code};
use crate::flags_view;
use crate::output;
use crate::settings;
use crate::target::Target;

/// Commands of the trust store.
#[derive(Debug, Subcommand)]
pub(crate) enum TrustCommand {
    /// List what machines proved to be
    List,
    /// See which host key machines present now; changes nothing, logs in nowhere
    Scan(ScanArgs),
    /// Trust the host key that a machine presents now, in place of any other
    Accept(AcceptArgs),
    /// Forget what a machine proved to be
    Forget(ForgetArgs),
}

/// Arguments of `trust scan`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust scan lamp-01 foghorn
  lantern trust scan 192.0.2.7:2222 --json

Exit code 248 when a key is unknown or has changed.")]
pub(crate) struct ScanArgs {
    /// Machines: names or `address:port`
    #[arg(required = true, value_name = "MACHINE")]
    machines: Vec<String>,
}

/// Arguments of `trust accept`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust accept lamp-01                        shows the key and asks
  lantern trust accept lamp-01 --expect SHA256:…      takes that key and no other, without asking")]
pub(crate) struct AcceptArgs {
    /// A machine: a name or `address:port`
    machine: String,
    /// The fingerprint that the key must have
    #[arg(long, value_name = "FINGERPRINT")]
    expect: Option<Fingerprint>,
}

/// Arguments of `trust forget`.
#[derive(Debug, Args)]
pub(crate) struct ForgetArgs {
    /// A machine: a name or `address:port`
    machine: String,
}

pub(crate) fn run(command: TrustCommand, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    match command {
        TrustCommand::List => list(&home, global.json).map(|()| 0),
        TrustCommand::Scan(args) => block_on(scan(&home, &args, global.json)),
        TrustCommand::Accept(args) => block_on(accept(&home, &args, global.json)).map(|()| 0),
        TrustCommand::Forget(args) => forget(&home, &args.machine, global.json).map(|()| 0),
    }
}

/// The keys of a record as JSON.
pub(crate) fn keys_json(record: &TrustRecord) -> Value {
    let key = |known: &KnownKey| {
        let mut value = key_json(&known.key);
        value["verified"] = json!(known.verified);
        value["first_seen"] = json!(known.first_seen);
        value["last_seen"] = json!(known.last_seen);
        value
    };
    record.keys.iter().map(key).collect()
}

fn key_json(key: &PublicKey) -> Value {
    let fingerprint = key.fingerprint();
    json!({
        "algorithm": key.describe(),
        "fingerprint": fingerprint.to_string(),
        "flags": flags_view::words(&fingerprint),
    })
}

fn list(home: &Home, json: bool) -> Result<(), Failure> {
    let store = TrustStore::load(home)?;
    if json {
        let machines: Vec<Value> = store
            .iter()
            .map(|(name, record)| json!({ "machine": name, "addresses": record.addresses, "keys": keys_json(record) }))
            .collect();
        return output::print_json(&machines);
    }
    let mut rows = Vec::new();
    for (name, record) in store.iter() {
        for known in &record.keys {
            rows.push([
                Cow::Borrowed(name),
                known.key.describe().into(),
                known.key.fingerprint().to_string().into(),
                known.last_seen.strftime("%Y-%m-%d").to_string().into(),
                known.verified.to_string().into(),
                record.addresses.last().cloned().unwrap_or_default().into(),
            ]);
        }
    }
    if rows.is_empty() {
        output::say("No machine has been met yet.");
        return Ok(());
    }
    output::print(&output::table(
        ["MACHINE", "ALGORITHM", "FINGERPRINT", "LAST SEEN", "VERIFIED", "ADDRESS"],
        rows,
    ))
}

/// What a scan of one machine found.
fn judge(store: &TrustStore, target: &Target, key: &PublicKey) -> (&'static str, String) {
    match store.assess(&target.name, &target.place(), key) {
        TrustVerdict::Known => ("known", "as it was".into()),
        TrustVerdict::Moved { from } => ("moved", format!("same key, met before at {}", from.join(", "))),
        TrustVerdict::FirstContact { same_key, .. } if !same_key.is_empty() => {
            ("new", format!("never met; the same key as {}", same_key.join(", ")))
        }
        TrustVerdict::FirstContact { .. } => ("new", "never met".into()),
        TrustVerdict::Changed { known, belongs_to } => {
            let was: Vec<_> = known.iter().map(|known| known.key.fingerprint().to_string()).collect();
            let whose = if belongs_to.is_empty() {
                String::new()
            } else {
                format!("; this is the key of {}", belongs_to.join(", "))
            };
            ("CHANGED", format!("it was {}{whose}", was.join(", ")))
        }
    }
}

async fn scan(home: &Home, args: &ScanArgs, json: bool) -> Result<u8, Failure> {
    let store = TrustStore::load(home)?;
    let targets: Vec<Target> =
        args.machines.iter().map(|typed| Target::resolve(home, typed)).collect::<Result<_, _>>()?;
    let mut probes = Vec::new();
    for target in &targets {
        let (address, port) = (target.address.clone(), target.port);
        probes.push(tokio::spawn(async move {
            probe_host_key(&address, port, None, TimeLimits::default()).await
        }));
    }
    let (mut rows, mut values, mut status) = (Vec::new(), Vec::new(), 0);
    for (target, probe) in targets.iter().zip(probes) {
        let probed = probe.await.map_err(|error| Failure::new(code::INTERNAL, error.to_string()))?;
        let (state, detail, key) = match &probed {
            Ok(key) => {
                let (state, detail) = judge(&store, target, key);
                if matches!(state, "new" | "CHANGED") {
                    status = code::TRUST;
                }
                (state, detail, Some(key))
            }
            Err(error) => ("unreachable", chain(error), None),
        };
        let fingerprint = key.map(|key| key.fingerprint().to_string()).unwrap_or_default();
        let algorithm = key.map(PublicKey::describe).unwrap_or_default();
        values.push(json!({
            "machine": target.name,
            "address": target.place(),
            "state": state.to_lowercase(),
            "detail": detail,
            "key": key.map(key_json),
        }));
        rows.push([
            target.name.as_str().into(),
            state.into(),
            algorithm.into(),
            fingerprint.into(),
            detail.into(),
        ]);
        if let Err(error) = probed {
            status = status.max(Failure::from(error).code);
        }
    }
    match json {
        true => output::print_json(&values)?,
        false => {
            output::print(&output::table(["MACHINE", "STATE", "ALGORITHM", "FINGERPRINT", "DETAIL"], rows))?
        }
    }
    Ok(status)
}

async fn accept(home: &Home, args: &AcceptArgs, json: bool) -> Result<(), Failure> {
    let target = Target::resolve(home, &args.machine)?;
    let key = probe_host_key(&target.address, target.port, None, TimeLimits::default()).await?;
    let store = TrustStore::load(home)?;
    let verdict = store.assess(&target.name, &target.place(), &key);
    let machine = target.name.clone();
    let verified = match args.expect {
        Some(expected) if key.fingerprint() == expected => Verified::Expected,
        Some(expected) => {
            let failure = TrustFailure::NotExpected { machine, key, expected };
            return Err(LinkError::Trust(Box::new(failure)).into());
        }
        None => {
            let mut ask = TerminalAsk::new(true, None, None);
            let (same_key, same_address) = match &verdict {
                TrustVerdict::FirstContact { same_key, same_address } => {
                    (same_key.clone(), same_address.clone())
                }
                TrustVerdict::Changed { known, .. } => {
                    let was: Vec<_> = known.iter().map(ToString::to_string).collect();
                    output::warn(&format!(
                        "{machine} was known by {}; that will be replaced.",
                        was.join("; ")
                    ));
                    (Vec::new(), Vec::new())
                }
                _ => (Vec::new(), Vec::new()),
            };
            let contact = FirstContact {
                machine: &machine,
                reached_at: target.place(),
                key: &key,
                same_key,
                same_address,
            };
            match ask.first_contact(&contact) {
                HostKeyAnswer::Accept(verified) => verified,
                HostKeyAnswer::Reject if ask.was_interrupted() => {
                    return Err(Failure::new(code::INTERRUPTED, "interrupted; nothing was changed"));
                }
                HostKeyAnswer::Reject => {
                    return Err(LinkError::Trust(Box::new(TrustFailure::Rejected { machine })).into());
                }
                HostKeyAnswer::NoOneToAsk => {
                    return Err(LinkError::Trust(Box::new(TrustFailure::NoOneToAsk { machine, key })).into());
                }
            }
        }
    };
    TrustStore::accept(home, &target.name, &target.place(), &key, verified, Timestamp::now())?;
    if json {
        let mut value = key_json(&key);
        value["machine"] = json!(target.name);
        value["verified"] = json!(verified);
        return output::print_json(&value);
    }
    output::say(&format!(
        "{} is trusted with {} {} ({verified}).",
        target.name,
        key.describe(),
        key.fingerprint()
    ));
    Ok(())
}

fn forget(home: &Home, typed: &str, json: bool) -> Result<(), Failure> {
    // A machine may be out of the book and still be known.
    let store = TrustStore::load(home)?;
    let name = match store.get(typed) {
        Some(_) => typed.to_owned(),
        None => Target::resolve(home, typed)?.name,
    };
    let known = TrustStore::forget(home, &name)?;
    if json {
        return output::print_json(&json!({ "machine": name, "forgotten": known }));
    }
    output::say(&match known {
        true => format!("{name} is forgotten: the next contact is the first."),
        false => format!("Nothing was known of {name}."),
    });
    Ok(())
}
