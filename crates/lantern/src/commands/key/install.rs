//! `lantern key install`: the public half goes onto a machine, and a login proves it.

use clap::Args;
use jiff::Timestamp;
use lantern_book::{Home, Installed, KeyRing, MachineBook};
use lantern_keys::login_list::LineLimits;
use serde_json::json;

use super::placing::{Change, Proof, add_line, prove};
use crate::commands::block_on;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::output;
use crate::target::Target;

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
    let user = target.user(&args.connect)?;
    let in_book = MachineBook::load(home)?.get(&target.name).is_ok();
    if args.make_use && !in_book {
        return Err(Failure::new(
            code::USAGE,
            format!("{} is not in the book, so it cannot use a key of it", target.name),
        )
        .hint(format!("lantern machine add NAME {}", args.machine)));
    }
    let options = args.limits().options();
    let ask = args.connect.ask()?;
    let (change, logged_in) = block_on(async {
        let keys = target.keys(&args.connect);
        let login = target.try_connect(home, &args.connect, &ask, keys, false).await;
        let trunk = login.map_err(crate::target::ConnectFailure::into_failure)?;
        let change = add_line(&trunk, &entry, &options).await?;
        trunk.close().await;
        match prove(&target, home, &args.connect, &ask, &args.name).await? {
            Proof::LoggedIn(trunk) => {
                trunk.close().await;
                Ok((change, true))
            }
            Proof::Accepted => Ok((change, false)),
            Proof::Refused(error) => Err(not_proven(&args.name, &target.name, error)),
        }
    })?;
    let place =
        Installed { machine: target.name.clone(), user: user.clone(), at: Timestamp::now(), limits: options };
    let limits = place.limits.clone();
    ring.change_note(&args.name, |note| note.note_installed(place))?;
    if args.make_use {
        MachineBook::set_key(home, &target.name, &args.name)?;
    }
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

/// The line is there, and yet the key does not log in.
pub(super) fn not_proven(key: &str, machine: &str, error: lantern_link::LinkError) -> Failure {
    let mut failure = Failure::new(
        code::LOGIN,
        format!("{key} stands in the list of {machine}, but the machine does not let it in"),
    );
    failure.details = Failure::from(error).details;
    failure
        .hint("its SSH server may read another list than ~/.ssh/authorized_keys, or mistrust a home folder that others can write")
        .hint(format!("`lantern key withdraw {key} {machine}` takes the line out again"))
}
