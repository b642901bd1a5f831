//! Arguments of `lantern machine show`.

use clap::Args;

use super::selection::SelectionArgs;

/// Arguments of `machine show`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine show lamp-01
  lantern machine show @coast --json
  lantern machine show lamp-01 --all        every field that there is, with what holds")]
pub(crate) struct ShowArgs {
    #[command(flatten)]
    pub(crate) machines: SelectionArgs,
    /// Show fields that nothing sets, too
    #[arg(long)]
    pub(crate) all: bool,
}
