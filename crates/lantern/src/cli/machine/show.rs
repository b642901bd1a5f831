//! Arguments of `lantern machine show`.

use clap::Args;

/// Arguments of `machine show`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine show lamp-01
  lantern machine show lamp-01 --all        every field that there is, with what holds")]
pub(crate) struct ShowArgs {
    /// Its name in the book
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) name: String,
    /// Show fields that nothing sets, too
    #[arg(long)]
    pub(crate) all: bool,
}
