//! `lantern key withdraw`: the public half leaves a machine, unless it is the last way in.

use std::sync::Arc;

use lantern_book::{Home, KeyRing, RingEntry};
use lantern_link::LinkError;
use lantern_operations::place::Change;
use lantern_operations::{ReachOptions, Target, WithdrawError, Withdrawal, withdraw};
use serde_json::{Value, json};

use super::each::{Chosen, Deed, on_each};
use crate::cli::key::withdraw::WithdrawArgs;
use crate::commands::connecting::{asking, attend, explain, way};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

pub(super) fn run(args: &WithdrawArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let entry = KeyRing::new(home).get(&args.name)?;
    let ask = asking(&args.connect)?;
    let question = format!("Withdraw {} from", args.name);
    let no_questions = args.connect.no_questions;
    let deed =
        Deed { what: "gone", detail: format!("the key {}", args.name), question: &question, no_questions };
    let chosen = Chosen::of(home, &args.machines, &args.connect)?;
    let options = chosen.options.clone();
    let order = Arc::new(Order { args: args.clone(), home: home.clone(), options, entry, json });
    let act = |machine: String, ask: TerminalAsk| withdraw_from(order.clone(), machine, ask);
    on_each(&chosen, (args.plan, args.at_once), &deed, (&ask, json), act)
}

/// What is withdrawn everywhere.
struct Order {
    args: WithdrawArgs,
    home: Home,
    options: ReachOptions,
    entry: RingEntry,
    json: bool,
}

async fn withdraw_from(order: Arc<Order>, machine: String, ask: TerminalAsk) -> Result<Value, Failure> {
    let Order { args, home, options, entry, json } = &*order;
    let target = Target::resolve_with(home, &machine, options)?;
    // Nobody is asked where it is seen whether the key is out.
    let nobody = ask.without_person();
    let withdrawing = withdraw(way(home, &target, options, &ask), entry, args.even_the_last, &nobody);
    let Withdrawal { change, still_in, user } =
        attend(&target, &ask, withdrawing).await?.map_err(|error| match error {
            WithdrawError::Operation(error) => explain(home, &target, error),
            error => error.into(),
        })?;
    if still_in {
        return Err(Failure::new(
            code::LOGIN,
            format!(
                "{} is out of ~/.ssh/authorized_keys of {user} on {}, but the machine still lets it in",
                args.name, target.name
            ),
        )
        .hint("its SSH server reads another list besides; look for AuthorizedKeysFile in its settings"));
    }
    if target.keys.contains(&args.name) {
        output::warn(format!("{} still names {} in the book.", target.name, args.name));
    }
    if *json {
        return Ok(json!({
            "key": args.name, "machine": target.name, "user": user, "changed": change == Change::Made,
        }));
    }
    output::say(&match change {
        Change::Made => format!("{} does not log in as {user} on {} any more.", args.name, target.name),
        Change::None => {
            format!("{} was not in the list of {user} on {}, and does not log in.", args.name, target.name)
        }
    });
    Ok(Value::Null)
}

impl From<WithdrawError> for Failure {
    fn from(error: WithdrawError) -> Self {
        let words = error.to_string();
        match error {
            WithdrawError::Operation(error) => error.into(),
            WithdrawError::SameKey { .. } => {
                Self::new(code::USAGE, words).hint("`--key` wants another way in, to prove that there is one")
            }
            WithdrawError::LastWay { machine, source, .. } => {
                let mut failure = Self::new(code::LOGIN, words);
                failure.details = Self::from(LinkError::Auth(source)).details;
                failure
                    .hint(format!("`lantern key install OTHER {machine}` makes another way in first"))
                    .hint("`--even-the-last` takes it out nevertheless; you may lock yourself out")
            }
        }
    }
}
