//! `lantern tunnel add`, `set` and `remove`: tunnels in the book.

use lantern_book::{BookEdit, Change, Field, Home, MachineBook, Place, Settings, Tunnel, check_name_of};
use serde_json::{Value, json};

use super::failures::{typed_end, typed_form};
use crate::cli::tunnel::change::{AddTunnelArgs, ExtraArgs, OwnerArgs, RemoveTunnelArgs, SetTunnelArgs};
use crate::cli::tunnel::open::FormArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::screen::tunnel::json as as_json;

impl OwnerArgs {
    fn place(&self) -> Place<'_> {
        match (self.profile, self.owner.as_str()) {
            (true, "defaults") => Place::Defaults,
            (true, name) => Place::Profile(name),
            (false, name) => Place::Machine(name),
        }
    }

    fn settings<'b>(&self, book: &'b MachineBook) -> Result<&'b Settings, Failure> {
        Ok(match self.place() {
            Place::Defaults => book.defaults(),
            Place::Profile(name) => book.profile(name)?,
            Place::Machine(name) => book.get(name)?,
        })
    }

    /// How its tunnels are opened.
    fn opens(&self, name: &str) -> String {
        let machine = if self.profile { "MACHINE" } else { self.owner.as_str() };
        format!("lantern tunnel open {machine} {name}")
    }
}

/// The tunnel of this name that the owner itself has.
fn own(args: &OwnerArgs, book: &MachineBook, name: &str) -> Result<Option<Tunnel>, Failure> {
    let form = args.settings(book)?.map(Field::Tunnels).and_then(|map| map.get(name));
    let parsed = form.map(|form| Tunnel::parse(form));
    parsed
        .transpose()
        .map_err(|rule| Failure::new(code::LOCAL, format!("the tunnel {name} of {} {rule}", args.owner)))
}

fn missing(args: &OwnerArgs, book: &MachineBook, name: &str) -> Failure {
    let failure = Failure::new(code::USAGE, format!("{} has no tunnel {name} of its own", args.owner));
    let known: Vec<String> = args
        .settings(book)
        .ok()
        .and_then(|settings| settings.map(Field::Tunnels))
        .map(|map| map.keys().cloned().collect())
        .unwrap_or_default();
    let taken_over = match args.place() {
        Place::Machine(machine) => book
            .effective(machine)
            .ok()
            .is_some_and(|effective| effective.map(Field::Tunnels).is_some_and(|map| map.contains_key(name))),
        _ => false,
    };
    let failure =
        if known.is_empty() { failure } else { failure.detail(format!("it has {}", known.join(", "))) };
    match taken_over {
        true => failure.hint(format!(
            "it takes it over from a profile or the defaults; `lantern machine show {}` says which, and --profile changes it there",
            args.owner
        )),
        false => failure.hint(format!("lantern tunnel add {} {name} --local PORT --to HOST:PORT", args.owner)),
    }
}

fn extra(tunnel: &mut Tunnel, args: &ExtraArgs) {
    tunnel.wide |= args.wide;
    tunnel.at_start |= args.at_start;
    tunnel.hold = args.hold.or(tunnel.hold);
    tunnel.then = args.then.clone().or(tunnel.then.take());
}

/// Writes it; what is told afterwards.
fn put(owner: &OwnerArgs, name: &str, tunnel: &Tunnel, home: &Home, plan: bool) -> Result<(), Failure> {
    // Checked as the book reads it.
    Tunnel::parse(&tunnel.to_string())
        .map_err(|rule| Failure::new(code::USAGE, format!("the tunnel {name} {rule}")))?;
    if !tunnel.wide && !tunnel.listen.is_loopback() {
        return Err(Failure::new(
            code::USAGE,
            format!("{name} would listen at {}, for everybody who reaches that address", tunnel.listen),
        )
        .hint("`--wide` says that this is meant; a port alone listens on loopback"));
    }
    if plan {
        return Ok(());
    }
    let changes = [Change::parse(&format!("tunnels.{name}={tunnel}"))?];
    Ok(MachineBook::edit(home, |edit: &mut BookEdit| edit.change(owner.place(), &changes))?)
}

fn value(owner: &OwnerArgs, name: &str, tunnel: &Tunnel) -> Value {
    let mut value = as_json::form(tunnel);
    value["owner"] = json!(owner.owner);
    value["name"] = json!(name);
    value
}

pub(super) fn add(args: &AddTunnelArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let (owner, name) = (&args.owner, &args.name);
    check_name_of("tunnel name", name)?;
    let book = MachineBook::load(home)?;
    if own(owner, &book, name)?.is_some() {
        return Err(Failure::new(code::USAGE, format!("{} has a tunnel {name} already", owner.owner))
            .hint(format!("lantern tunnel set {} {name} --local PORT", owner.owner)));
    }
    let Some(mut tunnel) = typed_form(&args.form)? else {
        return Err(Failure::new(code::USAGE, "say where it listens and where it leads")
            .hint(format!("lantern tunnel add {} {name} --local 8443 --to 127.0.0.1:443", owner.owner)));
    };
    extra(&mut tunnel, &args.extra);
    put(owner, name, &tunnel, home, false)?;
    if json {
        return output::print_json(&value(owner, name, &tunnel));
    }
    output::say(format!("{name} is in the book. Next: {}", owner.opens(name)));
    Ok(())
}

pub(super) fn set(args: &SetTunnelArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let (owner, name) = (&args.owner, &args.name);
    let book = MachineBook::load(home)?;
    let Some(before) = own(owner, &book, name)? else { return Err(missing(owner, &book, name)) };
    let mut tunnel = reshaped(&before, &args.form)?;
    extra(&mut tunnel, &args.extra);
    tunnel.wide &= !args.no_wide;
    tunnel.at_start &= !args.no_at_start;
    tunnel.hold = tunnel.hold.filter(|_| !args.no_hold);
    tunnel.then = tunnel.then.take().filter(|_| !args.no_then);
    let changed = tunnel != before;
    if changed {
        put(owner, name, &tunnel, home, args.plan)?;
    }
    if json {
        let mut value = value(owner, name, &tunnel);
        value["changed"] = json!(changed && !args.plan);
        return output::print_json(&value);
    }
    if !changed {
        output::say("Nothing to change: it is so already.");
        return Ok(());
    }
    let row = [Planned::changed(&owner.owner, name, format!("{before} → {tunnel}"))];
    if args.plan { output::plan(&row, true) } else { output::tell_changes(&row) }
}

/// The same with what options say in place of what it was.
fn reshaped(before: &Tunnel, form: &FormArgs) -> Result<Tunnel, Failure> {
    let mut tunnel = before.clone();
    let listens = form.local.is_some() || form.remote.is_some() || form.dynamic.is_some();
    if !listens {
        if let Some(to) = &form.to {
            if tunnel.to.is_none() {
                return Err(Failure::new(code::USAGE, "a dynamic tunnel leads wherever its callers ask"));
            }
            tunnel.to = Some(typed_end("--to", to, false)?);
        }
        return Ok(tunnel);
    }
    let kept = form.to.clone().or_else(|| tunnel.to.as_ref().map(ToString::to_string));
    let to = kept.filter(|_| form.dynamic.is_none());
    if let Some(new) = typed_form(&FormArgs { to, ..form.clone() })? {
        (tunnel.kind, tunnel.listen, tunnel.to) = (new.kind, new.listen, new.to);
    }
    Ok(tunnel)
}

pub(super) fn remove(args: &RemoveTunnelArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let owner = &args.owner;
    let book = MachineBook::load(home)?;
    let mut rows = Vec::new();
    for name in &args.names {
        let Some(tunnel) = own(owner, &book, name)? else { return Err(missing(owner, &book, name)) };
        rows.push(Planned::gone(&owner.owner, format!("{name}: {tunnel}")));
    }
    let goes_on =
        args.plan.settle(&rows, &format!("Take {} out of the book?", args.names.join(", ")), true, json)?;
    if goes_on {
        let changes = args
            .names
            .iter()
            .map(|name| Change::parse(&format!("tunnels.{name}=")))
            .collect::<Result<Vec<_>, _>>()?;
        MachineBook::edit(home, |edit: &mut BookEdit| edit.change(owner.place(), &changes))?;
    }
    if json {
        return output::print_json(
            &json!({ "owner": owner.owner, "removed": if goes_on { &args.names[..] } else { &[] } }),
        );
    }
    if goes_on {
        output::say(format!("{}: {} is out of the book.", owner.owner, args.names.join(", ")));
    }
    Ok(())
}
