//! Arguments of `lantern key remove`.

use clap::Args;

/// Arguments of `key remove`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key remove old-beacon             says what would lose access, and asks
  lantern key remove old-beacon --plan      only says it
  lantern key remove old-beacon --yes       does it without asking

Nothing is kept behind. Lines with its public half stay on machines: `lantern key withdraw`
takes them out.")]
pub(crate) struct RemoveArgs {
    /// A name in the ring
    #[arg(add = crate::cli::completing::keys())]
    pub(crate) name: String,
    /// Say what would lose access, and do nothing
    #[arg(long)]
    pub(crate) plan: bool,
    /// Don't ask
    #[arg(long, conflicts_with = "plan")]
    pub(crate) yes: bool,
}
