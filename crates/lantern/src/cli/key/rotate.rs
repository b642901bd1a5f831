//! Arguments of `lantern key rotate`.

use clap::Args;

use crate::cli::at_once::AtOnceArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::ExceptArgs;
use crate::cli::machine::set::PlanArgs;

/// Arguments of `key rotate`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern key rotate harbour --plan           says what would be done where
  lantern key rotate harbour                  every machine that has or names it
  lantern key rotate harbour @coast           these first, others later

Machine by machine: the new key is installed over a login with the old one, proven by a
login, the machine in the book offers it from then on, and the old one is taken out. The old
key stays in the ring until you remove it. Stopped or failed anywhere, the same command goes
on there. The new key gets the passphrase of the old. Where it is about several machines, they are
shown and you are asked.")]
pub(crate) struct RotateArgs {
    #[arg(add = crate::cli::completing::keys())]
    /// A name in the ring: the key to be replaced
    pub(crate) name: String,
    /// Machines: names, globs, @tags, comma-separated [default: all that lantern installed it on or whose entry names it]
    #[arg(value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Name of the new key [default: the old name with a number]
    #[arg(long = "to", value_name = "NAME")]
    pub(crate) new_name: Option<String>,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    #[command(flatten)]
    pub(crate) at_once: AtOnceArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
