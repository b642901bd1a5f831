//! `lantern key withdraw`: the public half leaves a machine, unless it is the last way in.

use clap::Args;
use lantern_book::{Home, KeyRing};
use lantern_link::{KeyChoice, LinkError};
use serde_json::json;

use super::placing::{Change, Proof, prove, remove_line};
use crate::commands::block_on;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::output;
use crate::target::{ConnectFailure, Target};

/// Arguments of `key withdraw`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key withdraw old-beacon lamp-01                logs in with another key or the password
  lantern key withdraw old-beacon lamp-01 --key harbour   with this one

It logs in without the key first: that proves another way in, and without one nothing is
taken out.")]
pub(crate) struct WithdrawArgs {
    /// A name in the ring
    name: String,
    /// A machine: a name in the book, or user@address:port
    machine: String,
    /// Take it out even though no other way in is known: you may lock yourself out
    #[arg(long)]
    even_the_last: bool,
    #[command(flatten)]
    connect: ConnectArgs,
}

pub(super) fn run(args: &WithdrawArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let entry = ring.get(&args.name)?;
    let target = Target::resolve(home, &args.machine)?;
    let user = target.user(&args.connect)?;
    let ask = args.connect.ask()?;
    let (change, still_in) = block_on(async {
        let keys = match target.keys(&args.connect) {
            keys if args.even_the_last => keys,
            // The machine's own key in the book is the usual one to be withdrawn.
            KeyChoice::Named(names) if names.iter().any(|name| *name != args.name) => {
                KeyChoice::Named(names.into_iter().filter(|name| *name != args.name).collect())
            }
            KeyChoice::Nothing => KeyChoice::Nothing,
            KeyChoice::File(path) => {
                // A file that hides its public half could be the very key.
                let other = KeyRing::read_file(&path)?;
                if other.public().is_none_or(|public| *public == entry.public) {
                    return Err(Failure::new(
                        code::USAGE,
                        format!("{} does not show that it is another key than {}", path.display(), args.name),
                    )
                    .hint("`--key` wants another way in, to prove that there is one"));
                }
                KeyChoice::File(path)
            }
            _ => KeyChoice::RingWithout(entry.public.clone()),
        };
        let login = target.try_connect(home, &args.connect, &ask, keys, false).await;
        let trunk = login.map_err(|failure| last_way(args, &target.name, failure))?;
        let change = remove_line(&trunk, &entry.public).await?;
        trunk.close().await;
        // Nobody is asked now: whether the machine takes the key shows before its passphrase is needed.
        let nobody = ask.without_person();
        let still_in = match prove(&target, home, &args.connect, &nobody, &args.name).await? {
            Proof::LoggedIn(trunk) => {
                trunk.close().await;
                true
            }
            Proof::Accepted => true,
            Proof::Refused(_) => false,
        };
        Ok((change, still_in))
    })?;
    ring.change_note(&args.name, |note| note.note_withdrawn(&target.name, &user))?;
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
        output::warn(&format!("{} still names {} in the book.", target.name, args.name));
    }
    if json {
        return output::print_json(&json!({
            "key": args.name, "machine": target.name, "user": user, "changed": change == Change::Made,
        }));
    }
    output::say(&match change {
        Change::Made => format!("{} does not log in as {user} on {} any more.", args.name, target.name),
        Change::None => {
            format!("{} was not in the list of {user} on {}, and does not log in.", args.name, target.name)
        }
    });
    Ok(())
}

/// A login that fails without the key means that the key is the last way in that we know.
fn last_way(args: &WithdrawArgs, machine: &str, failure: ConnectFailure) -> Failure {
    match failure {
        ConnectFailure::Link(LinkError::Auth(auth)) => {
            let mut failure = Failure::new(
                code::LOGIN,
                format!(
                    "{} may be the last way into {machine}: no login worked without it, so it stays",
                    args.name
                ),
            );
            failure.details = Failure::from(LinkError::Auth(auth)).details;
            failure
                .hint(format!("`lantern key install OTHER {machine}` makes another way in first"))
                .hint("`--even-the-last` takes it out nevertheless; you may lock yourself out")
        }
        other => other.into_failure(),
    }
}
