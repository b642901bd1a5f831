//! Arguments of `lantern keeper unit`.

use std::path::PathBuf;

use clap::Args;

/// Arguments of `keeper unit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern keeper unit                  prints it
  lantern keeper unit --install  writes it where systemd looks, and says what to type

For systemd. Other service managers run `lantern keeper start --foreground`.")]
pub(crate) struct UnitArgs {
    /// Write it where the service manager of this user looks
    #[arg(long)]
    pub(crate) install: bool,
    /// Write over a unit that is there
    #[arg(long, requires = "install")]
    pub(crate) replace: bool,
    /// Ask with this program
    #[arg(long, value_name = "PROGRAM")]
    pub(crate) confirm_with: Option<PathBuf>,
}
