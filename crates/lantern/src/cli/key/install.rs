//! Arguments of `lantern key install`.

use clap::Args;
use lantern_keys::login_list::check_value;

use crate::cli::at_once::AtOnceArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::SelectionArgs;
use crate::cli::machine::set::PlanArgs;

/// Arguments of `key install`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern key install harbour lamp-01                     by password the first time
  lantern key install harbour keeper@192.0.2.7 --use
  lantern key install robot lamp-01 --limit-from 192.0.2.0/24 --limit-command uptime
  lantern key install visitor lamp-01 --expires 2027-01-31
  lantern key install harbour @coast --except lamp-03 --plan

Only the public half travels. What the machine's list has already stays as it was; the list
and its folder are closed to others. Done again, it changes nothing. At the end a login with
the key proves that it works.")]
pub(crate) struct InstallArgs {
    /// A name in the ring
    #[arg(add = crate::cli::completing::keys())]
    pub(crate) name: String,
    #[command(flatten)]
    pub(crate) machines: SelectionArgs,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    #[command(flatten)]
    pub(crate) at_once: AtOnceArgs,
    /// The key may log in from these addresses only: networks and patterns, comma-separated
    #[arg(long, value_name = "ADDRESSES", value_parser = plain_option)]
    pub(crate) limit_from: Option<String>,
    /// The key runs this command and nothing else
    #[arg(long, value_name = "COMMAND", value_parser = plain_option)]
    pub(crate) limit_command: Option<String>,
    /// The key opens no tunnels, no displays and forwards no agent
    #[arg(long)]
    pub(crate) no_forwarding: bool,
    /// The last day on which the key works (UTC)
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub(crate) expires: Option<jiff::civil::Date>,
    /// Have the machine in the book offer this key from now on
    #[arg(long = "use")]
    pub(crate) make_use: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// A value that stays in its line and in its quotes.
fn plain_option(text: &str) -> Result<String, String> {
    match check_value(text) {
        Ok(()) => Ok(text.to_owned()),
        Err(error) => Err(error.to_string()),
    }
}
