//! Arguments of `lantern trust look`.

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;

use crate::cli::connect::ConnectArgs;

/// Arguments of `trust look`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust look lamp-01,foghorn
  lantern trust look @coast
  lantern trust look 192.0.2.7:2222 --json

Every kind of host key that a machine has is fetched. Gateways on the way are logged in to,
with keys that need no question. Exit code 248 when a key is unknown or has changed.")]
pub(crate) struct LookArgs {
    /// Machines: names, globs, @tags, comma-separated; or `address:port`
    #[arg(required = true, value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Show only what is not as it was
    #[arg(long)]
    pub(crate) news: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
