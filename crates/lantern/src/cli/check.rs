//! Arguments of `lantern check`.

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;
use crate::cli::one_off::OneOffArgs;

use crate::cli::connect::ConnectArgs;

/// Arguments of `check`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern check lamp-01                walks every step and says what it saw
  lantern check @coast                 a table of many, the worst first
  lantern check lamp-01 --user admin   would that user be let in?
  lantern check --paste 'connect -i lamp.pem keeper@192.0.2.7'
  lantern check lamp-01 --fix          mends what is ours to mend, after asking

Nothing is trusted, installed or changed on the machine, and no password is asked for. The exit
code is that of the worst step (`lantern exit-codes` lists them), or 1 when all steps worked and
something is questionable.")]
pub(crate) struct CheckArgs {
    /// Machines: names, globs, @tags, comma-separated; or user@address:port
    #[arg(required_unless_present = "paste", value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Mend permissions and stale sockets on this computer, after a yes
    #[arg(long)]
    pub(crate) fix: bool,
    /// With --fix: don't ask
    #[arg(long, requires = "fix")]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) one_off: OneOffArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
