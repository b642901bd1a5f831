//! Arguments of `lantern manual`.

use std::path::PathBuf;

use clap::Args;

/// Arguments of `manual`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern manual | man -l -                      read the front page
  lantern manual --to ~/.local/share/man/man1    write one page a command")]
pub(crate) struct ManualArgs {
    /// Write one page for each command into this folder, instead of printing the front page
    #[arg(long, value_name = "DIR")]
    pub(crate) to: Option<PathBuf>,
}
