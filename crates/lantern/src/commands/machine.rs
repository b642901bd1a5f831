//! `lantern machine`: the book.

use std::borrow::Cow;

use clap::{Args, Subcommand};
use lantern_book::{Destination, KeyRing, Machine, MachineBook, TrustStore};
use serde_json::{Value, json};

use crate::cli::Global;
use crate::failure::{Failure, code};
use crate::output;
use crate::settings;

/// Commands of the book.
#[derive(Debug, Subcommand)]
pub(crate) enum MachineCommand {
    /// Add a machine
    Add(AddArgs),
    /// List the machines
    List(ListArgs),
    /// Show everything about a machine
    Show(NameArgs),
    /// Remove a machine
    Remove(NameArgs),
}

/// Arguments of `machine add`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine add lamp-01 192.0.2.7 --user keeper --key harbour --tag coast
  lantern machine add foghorn keeper@foghorn.example:2222
  lantern machine add tide-gauge ssh://keeper@[2001:db8::7]:2222")]
pub(crate) struct AddArgs {
    /// Its name in the book
    name: String,
    /// Where it is: an address, `user@address:port` or `ssh://user@address:port`
    address: String,
    /// The port
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    port: Option<u16>,
    /// The user to log in as
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// The key of the ring to offer
    #[arg(long, value_name = "NAME")]
    key: Option<String>,
    /// Let it ask the agent for signatures during a session; each one wants your yes
    #[arg(long)]
    forward_agent: bool,
    /// A word to select it by; may be given several times
    #[arg(long = "tag", value_name = "WORD")]
    tags: Vec<String>,
    /// Free words
    #[arg(long, value_name = "TEXT")]
    note: Option<String>,
}

/// Arguments of `machine list`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine list
  lantern machine list --tag coast --json")]
pub(crate) struct ListArgs {
    /// Only machines with this tag
    #[arg(long, value_name = "WORD")]
    tag: Option<String>,
}

/// A machine by name.
#[derive(Debug, Args)]
pub(crate) struct NameArgs {
    /// Its name in the book
    name: String,
}

pub(crate) fn run(command: MachineCommand, global: &Global) -> Result<(), Failure> {
    match command {
        MachineCommand::Add(args) => add(args, global),
        MachineCommand::List(args) => list(&args, global),
        MachineCommand::Show(args) => show(&args.name, global),
        MachineCommand::Remove(args) => remove(&args.name, global),
    }
}

fn add(args: AddArgs, global: &Global) -> Result<(), Failure> {
    let home = settings::home(global)?;
    let mut machine = Machine {
        address: args.address.clone(),
        port: args.port,
        user: args.user,
        key: args.key,
        forward_agent: args.forward_agent,
        tags: args.tags,
        note: args.note,
    };
    if args.address.contains(['@', ':'])
        && let Destination::OneOff(typed) = Destination::parse(&args.address)?
    {
        let twice = |what: &str| {
            Failure::new(code::USAGE, format!("the {what} is given twice, in the address and as an option"))
        };
        if machine.port.is_some() && has_port(&args.address) {
            return Err(twice("port"));
        }
        if machine.user.is_some() && typed.user.is_some() {
            return Err(twice("user"));
        }
        machine.address = typed.address;
        machine.port =
            machine.port.or(Some(typed.port).filter(|port| *port != lantern_book::DEFAULT_SSH_PORT));
        machine.user = machine.user.or(typed.user);
    }
    if let Some(key) = &machine.key {
        KeyRing::new(&home).get(key)?;
    }
    MachineBook::add(&home, &args.name, &machine)?;
    if global.json {
        return output::print_json(&machine_json(&args.name, &machine));
    }
    output::say(&format!(
        "{} is in the book, at {}. Next: lantern shell {}",
        args.name,
        machine.place(),
        args.name
    ));
    Ok(())
}

/// Whether an address typed as one word has a port in it.
fn has_port(typed: &str) -> bool {
    let host = typed.rsplit('@').next().unwrap_or(typed);
    let host = host.split("://").last().unwrap_or(host);
    host.contains("]:") || host.matches(':').count() == 1
}

fn machine_json(name: &str, machine: &Machine) -> Value {
    json!({
        "name": name,
        "address": machine.address,
        "port": machine.effective_port(),
        "user": machine.user,
        "key": machine.key,
        "forward_agent": machine.forward_agent,
        "tags": machine.tags,
        "note": machine.note,
    })
}

fn list(args: &ListArgs, global: &Global) -> Result<(), Failure> {
    let book = MachineBook::load(&settings::home(global)?)?;
    let wanted = |machine: &Machine| args.tag.as_ref().is_none_or(|tag| machine.tags.contains(tag));
    let machines: Vec<(&str, &Machine)> = book.iter().filter(|(_, machine)| wanted(machine)).collect();
    if global.json {
        let values: Vec<Value> = machines.iter().map(|(name, machine)| machine_json(name, machine)).collect();
        return output::print_json(&values);
    }
    if machines.is_empty() {
        output::say("No machines. `lantern machine add NAME ADDRESS` adds one.");
        return Ok(());
    }
    let rows = machines.iter().map(|(name, machine)| {
        [
            Cow::Borrowed(*name),
            text(machine.user.as_deref()),
            machine.place().into(),
            text(machine.key.as_deref()),
            machine.tags.join(" ").into(),
            text(machine.note.as_deref()),
        ]
    });
    output::print(&output::table(["NAME", "USER", "ADDRESS", "KEY", "TAGS", "NOTE"], rows))
}

fn text(value: Option<&str>) -> Cow<'_, str> {
    Cow::Borrowed(value.unwrap_or_default())
}

fn show(name: &str, global: &Global) -> Result<(), Failure> {
    let home = settings::home(global)?;
    let book = MachineBook::load(&home)?;
    let machine = book.get(name)?;
    let trust = TrustStore::load(&home)?;
    let record = trust.get(name);
    if global.json {
        let mut value = machine_json(name, machine);
        value["host_keys"] = record.map_or(json!([]), super::trust::keys_json);
        return output::print_json(&value);
    }
    let or = |value: &Option<String>, fallback: &str| value.clone().unwrap_or_else(|| fallback.to_owned());
    let local =
        settings::local_user().map_or("the local user".into(), |user| format!("{user} (the local user)"));
    let mut pairs = vec![
        ("machine", name.to_owned()),
        ("address", machine.place()),
        ("user", or(&machine.user, &local)),
        ("key", or(&machine.key, "any of the ring")),
        (
            "agent",
            if machine.forward_agent {
                "forwarded, with a question each time".into()
            } else {
                "not forwarded".into()
            },
        ),
        ("tags", machine.tags.join(" ")),
        ("note", or(&machine.note, "")),
    ];
    match record {
        None => pairs.push(("trust", "never met".into())),
        Some(record) => pairs.extend(record.keys.iter().map(|known| ("trust", known.to_string()))),
    }
    pairs.retain(|(_, value)| !value.is_empty());
    output::print(&output::fields(&pairs))
}

fn remove(name: &str, global: &Global) -> Result<(), Failure> {
    let home = settings::home(global)?;
    let machine = MachineBook::remove(&home, name)?;
    if global.json {
        return output::print_json(&machine_json(name, &machine));
    }
    output::say(&format!(
        "{name} ({}) is out of the book. What it proved to be is kept; `lantern trust forget {name}` forgets that too.",
        machine.place()
    ));
    Ok(())
}
