//! Arguments of `lantern trust list`.

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;

/// Arguments of `trust list`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust list
  lantern trust list @coast --uncompared
  lantern trust list 'lamp-*' --except lamp-03")]
pub(crate) struct ListArgs {
    /// Only these machines: names, globs, @tags, comma-separated
    #[arg(value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Only keys that nobody has compared with anything
    #[arg(long)]
    pub(crate) uncompared: bool,
}
