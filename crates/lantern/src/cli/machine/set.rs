//! Arguments of `lantern machine set`.

use clap::Args;

use super::selection::ExceptArgs;

/// Whether a change is carried out, asked about, or only told.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct PlanArgs {
    /// Say what would change, and change nothing
    #[arg(long)]
    pub(crate) plan: bool,
    /// Don't ask when it is about several machines
    #[arg(long, conflicts_with = "plan")]
    pub(crate) yes: bool,
}

/// Arguments of `machine set`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine set lamp-01 port=2222 user=keeper
  lantern machine set lamp-01 address=192.0.2.7,2001:db8::7
  lantern machine set @coast profiles+=coast --plan
  lantern machine set 'lamp-*' key=                   takes the field away
  lantern machine set lamp-01 environment.LANG=C.UTF-8
  lantern machine set lamp-01 'tunnels.console=local 8443 to 127.0.0.1:443'
  lantern machine set --fields                        lists the fields

= sets, += adds to a list, -= takes from it. Items of a list are separated by commas.")]
pub(crate) struct SetArgs {
    /// Machines (names, globs, @tags, comma-separated), then what to change
    #[arg(value_name = "SELECTION FIELD=VALUE", required_unless_present = "fields", add = crate::cli::completing::changes())]
    pub(crate) words: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// List the fields that there are
    #[arg(long)]
    pub(crate) fields: bool,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}
