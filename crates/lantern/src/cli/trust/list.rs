//! Arguments of `lantern trust list`.

use clap::Args;

/// Arguments of `trust list`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust list
  lantern trust list 'lamp-*' --uncompared")]
pub(crate) struct ListArgs {
    /// Only machines whose name is like this (`*` and `?` stand for others)
    #[arg(value_name = "GLOB")]
    pub(crate) names: Vec<String>,
    /// Only keys that nobody has compared with anything
    #[arg(long)]
    pub(crate) uncompared: bool,
}
