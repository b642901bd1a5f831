//! `lantern key install`: the public half goes onto a machine, and a login proves it.

use lantern_book::{Home, KeyRing};
use lantern_keys::login_list::LineLimits;
use lantern_link::LinkError;
use lantern_operations::place::Change;
use lantern_operations::{InstallError, Installation, Target, install};
use serde_json::json;

use crate::cli::key::install::InstallArgs;
use crate::commands::block_on;
use crate::commands::connecting::{asking, attend, way};
use crate::screen::failure::{Failure, code};
use crate::screen::output;

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
    let options = args.connect.reach(home);
    let target = Target::resolve_with(home, &args.machine, &options)?;
    let limits = args.limits().options().map_err(|error| Failure::new(code::USAGE, error.to_string()))?;
    let ask = asking(&args.connect)?;
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
    output::say(format!("{} {was} for {user} on {}, {proof}.", args.name, target.name));
    if change == Change::None && limits.is_empty() {
        return Ok(());
    }
    if in_book && !args.make_use && !target.keys.is_empty() && !target.keys.contains(&args.name) {
        output::say(format!("{} still offers another key; `--use` has it offer this one.", target.name));
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
