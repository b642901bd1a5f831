//! `lantern key install`: the public half goes onto a machine, and a login proves it.

use clap::Args;
use lantern_book::{Home, KeyRing};
use lantern_keys::login_list::LineLimits;
use lantern_link::LinkError;
use lantern_operations::place::Change;
use lantern_operations::{InstallError, Installation, Target, install};
use serde_json::json;

use crate::commands::block_on;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::output;
use crate::target::{attend, way};

/// Arguments of `key install`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key install harbour lamp-01                     by password the first time
  lantern key install harbour keeper@192.0.2.7 --use
  lantern key install robot lamp-01 --limit-from 192.0.2.0/24 --limit-command uptime
  lantern key install visitor lamp-01 --expires 2027-01-31

Only the public half travels. What the machine's list has already stays as it was; the list
and its folder are closed to others. Done again, it changes nothing. At the end a login with
the key proves that it works.")]
pub(crate) struct InstallArgs {
    /// A name in the ring
    name: String,
    /// A machine: a name in the book, or user@address:port
    machine: String,
    /// The key may log in from these addresses only: networks and patterns, comma-separated
    #[arg(long, value_name = "ADDRESSES", value_parser = plain_option)]
    limit_from: Option<String>,
    /// The key runs this command and nothing else
    #[arg(long, value_name = "COMMAND", value_parser = plain_option)]
    limit_command: Option<String>,
    /// The key opens no tunnels, no displays and forwards no agent
    #[arg(long)]
    no_forwarding: bool,
    /// The last day on which the key works (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    expires: Option<jiff::civil::Date>,
    /// Have the machine in the book offer this key from now on
    #[arg(long = "use")]
    make_use: bool,
    #[command(flatten)]
    connect: ConnectArgs,
}

/// A value that stays in its line and in its quotes.
fn plain_option(text: &str) -> Result<String, String> {
    match text.chars().any(|c| c.is_control()) || text.is_empty() || text.ends_with('\\') {
        true => Err("must not be empty, have line ends, or end with a backslash".into()),
        false => Ok(text.to_owned()),
    }
}

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
    let ring = KeyRing::new(home);
    let entry = ring.get(&args.name)?;
    let target = Target::resolve(home, &args.machine)?;
    let options = args.connect.reach(home);
    let limits = args.limits().options();
    let ask = args.connect.ask()?;
    let way = way(home, &target, &options, &ask);
    let installed = block_on(async {
        attend(&target, &ask, install(way, &entry, &limits, args.make_use)).await?.map_err(Failure::from)
    });
    let Installation { change, logged_in, user, in_book } =
        installed.map_err(|failure| match failure.code {
            code::USAGE => failure.hint(format!("lantern machine add NAME {}", args.machine)),
            _ => failure,
        })?;
    if json {
        return output::print_json(&json!({
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
    output::say(&format!("{} {was} for {user} on {}, {proof}.", args.name, target.name));
    if change == Change::None && limits.is_empty() {
        return Ok(());
    }
    if in_book && !args.make_use && !target.keys.is_empty() && !target.keys.contains(&args.name) {
        output::say(&format!("{} still offers another key; `--use` has it offer this one.", target.name));
    }
    Ok(())
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
