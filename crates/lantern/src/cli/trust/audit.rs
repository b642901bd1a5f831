//! Arguments of `lantern trust audit`.

use clap::Args;

/// Arguments of `trust audit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust audit
  lantern trust audit --unseen-for 30 --json

Exit code 1 when something is found.")]
pub(crate) struct AuditArgs {
    /// After how many days without being seen a key is questionable
    #[arg(long, value_name = "DAYS", default_value_t = 180, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) unseen_for: u16,
}
