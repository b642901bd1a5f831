//! Arguments of `lantern tunnel add`, `set` and `remove`.

use clap::Args;

use super::open::FormArgs;
use crate::cli::machine::set::PlanArgs;

/// Whose tunnels.
#[derive(Debug, Args)]
pub(crate) struct OwnerArgs {
    /// A machine of the book
    #[arg(value_name = "MACHINE", add = crate::cli::completing::machines())]
    pub(crate) owner: String,
    /// MACHINE is the name of a profile, or `defaults`
    #[arg(long)]
    pub(crate) profile: bool,
}

/// What a tunnel does beside leading somewhere.
#[derive(Debug, Args)]
pub(crate) struct ExtraArgs {
    /// It may listen for others than this computer, or that machine
    #[arg(long)]
    pub(crate) wide: bool,
    /// The keeper opens it when it starts
    #[arg(long)]
    pub(crate) at_start: bool,
    /// How long callers wait while the link is down, in seconds
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(0..=lantern_book::MAX_HOLD))]
    pub(crate) hold: Option<u64>,
    /// What `--then` runs here once it carries; {address} and {port} are where it listens
    #[arg(long, value_name = "COMMAND")]
    pub(crate) then: Option<String>,
}

/// Arguments of `tunnel add`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel add signal-hut console --local 8443 --to 127.0.0.1:443
  lantern tunnel add signal-hut desk --local 3389 --to 127.0.0.1:3389 --then 'viewer {address}:{port}'
  lantern tunnel add coast socks --dynamic 1080 --profile
  lantern tunnel add lamp-01 db --local unix:/tmp/db.sock --to unix:/run/db/db.sock")]
pub(crate) struct AddTunnelArgs {
    #[command(flatten)]
    pub(crate) owner: OwnerArgs,
    /// What to call it
    #[arg(value_name = "NAME")]
    pub(crate) name: String,
    #[command(flatten)]
    pub(crate) form: FormArgs,
    #[command(flatten)]
    pub(crate) extra: ExtraArgs,
}

/// Arguments of `tunnel set`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel set signal-hut console --local 9443
  lantern tunnel set signal-hut console --wide
  lantern tunnel set signal-hut console --no-wide --no-then

What is not said stays as it is.")]
pub(crate) struct SetTunnelArgs {
    #[command(flatten)]
    pub(crate) owner: OwnerArgs,
    /// Its name
    #[arg(value_name = "NAME", add = crate::cli::completing::tunnels())]
    pub(crate) name: String,
    #[command(flatten)]
    pub(crate) form: FormArgs,
    #[command(flatten)]
    pub(crate) extra: ExtraArgs,
    /// It listens for this computer, or that machine, alone
    #[arg(long, conflicts_with = "wide")]
    pub(crate) no_wide: bool,
    /// The keeper does not open it by itself
    #[arg(long, conflicts_with = "at_start")]
    pub(crate) no_at_start: bool,
    /// Callers wait as long as usual
    #[arg(long, conflicts_with = "hold")]
    pub(crate) no_hold: bool,
    /// It runs nothing
    #[arg(long, conflicts_with = "then")]
    pub(crate) no_then: bool,
    /// Say what would change, and change nothing
    #[arg(long)]
    pub(crate) plan: bool,
}

/// Arguments of `tunnel remove`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel remove signal-hut console
  lantern tunnel remove coast socks --profile --yes")]
pub(crate) struct RemoveTunnelArgs {
    #[command(flatten)]
    pub(crate) owner: OwnerArgs,
    /// Their names
    #[arg(value_name = "NAME", required = true, add = crate::cli::completing::tunnels())]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}
