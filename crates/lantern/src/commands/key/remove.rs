//! `lantern key remove`: a key leaves the ring, and what it opened is said before.

use lantern_book::{BookError, Home, KeyRing, MachineBook};
use serde_json::json;

use crate::cli::key::remove::RemoveArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::passphrase::interrupted;
use crate::terminal::prompt::{Answer, Terminal};

pub(super) fn run(args: &RemoveArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let book = MachineBook::load(home)?;
    let machines: Vec<&str> = book.users_of_key(&args.name).collect();
    let installed = match ring.get(&args.name) {
        Ok(entry) => entry.note.installed,
        // A broken file can go too.
        Err(BookError::Key { .. } | BookError::PrivateGone { .. }) => Vec::new(),
        Err(error) => return Err(error.into()),
    };
    let places: Vec<String> =
        installed.iter().map(|place| format!("{}@{}", place.user, place.machine)).collect();
    if args.plan || !args.yes {
        say_losses(&args.name, &machines, &places);
    }
    if !args.plan {
        if !args.yes {
            agree(&args.name)?;
        }
        ring.remove(&args.name)?;
    }
    if json {
        let value = json!({
            "name": args.name, "removed": !args.plan, "machines": machines, "installed": places,
        });
        return output::print_json(&value);
    }
    if !args.plan {
        output::say(format!("{} is gone.", args.name));
    }
    Ok(())
}

fn say_losses(name: &str, machines: &[&str], places: &[String]) {
    if !machines.is_empty() {
        output::warn(format!("machines in the book that log in with {name}: {}", machines.join(", ")));
    }
    if !places.is_empty() {
        output::warn(format!("its public half is installed for {}", places.join(", ")));
    }
    if machines.is_empty() && places.is_empty() {
        output::say(format!("No machine in the book names {name}, and lantern installed it nowhere."));
    }
}

fn agree(name: &str) -> Result<(), Failure> {
    let mut terminal = Terminal::open().ok_or_else(|| {
        Failure::new(code::USAGE, "removing a key wants a yes, and there is no terminal to ask at")
            .hint("`--yes` removes it, `--plan` says what would lose access")
    })?;
    let question = format!("A removed key cannot be brought back. Type {name} to remove it: ");
    match terminal.ask_line(&question) {
        Answer::Given(answer) if answer.trim() == name => Ok(()),
        Answer::Given(_) => Err(Failure::new(code::INTERRUPTED, "not removed")),
        Answer::Interrupted | Answer::Ended => Err(interrupted()),
    }
}
