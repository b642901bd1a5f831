//! `lantern key install`: the public half goes onto a machine, and a login proves it.

use std::sync::Arc;

use lantern_book::{Home, KeyRing, RingEntry};
use lantern_keys::login_list::LineLimits;
use lantern_link::LinkError;
use lantern_operations::place::Change;
use lantern_operations::{InstallError, Installation, ReachOptions, Target, install};
use serde_json::{Value, json};

use super::each::{Chosen, Deed, on_each};
use crate::cli::key::install::InstallArgs;
use crate::commands::connecting::{asking, attend, explain, way};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

impl InstallArgs {
    fn limits(&self) -> LineLimits {
        LineLimits {
            from: self.limit_from.clone(),
            command: self.limit_command.clone(),
            no_forwarding: self.no_forwarding,
            expires: self.expires.map(|date| date.strftime("%Y%m%d2359Z").to_string()),
        }
    }
}

pub(super) fn run(args: &InstallArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let entry = KeyRing::new(home).get(&args.name)?;
    let limits = args.limits().options().map_err(|error| Failure::new(code::USAGE, error.to_string()))?;
    let ask = asking(&args.connect)?;
    let question = format!("Install {} on", args.name);
    let no_questions = args.connect.no_questions;
    let deed =
        Deed { what: "new", detail: format!("the key {}", args.name), question: &question, no_questions };
    let chosen = Chosen::of(home, &args.machines, &args.connect)?;
    let options = chosen.options.clone();
    let order = Arc::new(Order { args: args.clone(), home: home.clone(), options, entry, limits, json });
    let act = |machine: String, ask: TerminalAsk| install_on(order.clone(), machine, ask);
    on_each(&chosen, (args.plan, args.at_once), &deed, (&ask, json), act)
}

/// What is installed everywhere.
struct Order {
    args: InstallArgs,
    home: Home,
    options: ReachOptions,
    entry: RingEntry,
    limits: String,
    json: bool,
}

async fn install_on(order: Arc<Order>, machine: String, ask: TerminalAsk) -> Result<Value, Failure> {
    let Order { args, home, options, entry, limits, json } = &*order;
    let target = Target::resolve_with(home, &machine, options)?;
    let installing = install(way(home, &target, options, &ask), entry, limits, args.make_use);
    let installed = attend(&target, &ask, installing).await?.map_err(|error| match error {
        InstallError::Operation(error) => explain(home, &target, error),
        error => error.into(),
    });
    let Installation { change, logged_in, user, in_book } =
        installed.map_err(|failure| match failure.code {
            code::USAGE => failure.hint(format!("lantern machine add NAME {machine}")),
            _ => failure,
        })?;
    if *json {
        return Ok(json!({
            "key": args.name, "machine": target.name, "user": user, "changed": change == Change::Made,
            "limits": limits, "logged_in": logged_in, "used_by_machine": args.make_use,
        }));
    }
    let was = if change == Change::Made { "is installed" } else { "was installed already" };
    let proof = match logged_in {
        true => "and a login with it works",
        false => {
            "and the machine takes it; no login was made, since more is wanted there or its passphrase here"
        }
    };
    output::say(format!("{} {was} for {user} on {}, {proof}.", args.name, target.name));
    if change == Change::None && limits.is_empty() {
        return Ok(Value::Null);
    }
    if in_book && !args.make_use && !target.keys.is_empty() && !target.keys.contains(&args.name) {
        output::say(format!("{} still offers another key; `--use` has it offer this one.", target.name));
    }
    Ok(Value::Null)
}

impl From<InstallError> for Failure {
    fn from(error: InstallError) -> Self {
        let words = error.to_string();
        match error {
            InstallError::Operation(error) => error.into(),
            InstallError::NotInBook { .. } => Self::new(code::USAGE, words),
            InstallError::NotProven { key, machine, source } => not_proven(words, &key, &machine, *source),
        }
    }
}

/// The line is there, and yet the key does not log in.
pub(super) fn not_proven(words: String, key: &str, machine: &str, error: LinkError) -> Failure {
    let mut failure = Failure::new(code::LOGIN, words);
    failure.details = Failure::from(error).details;
    failure
        .hint("its SSH server may read another list than ~/.ssh/authorized_keys, or mistrust a home folder that others can write")
        .hint(format!("`lantern key withdraw {key} {machine}` takes the line out again"))
}
