//! Arguments of `lantern machine edit`.

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;

/// Arguments of `machine edit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine edit
  lantern machine edit lamp-01,foghorn     these only
  lantern machine edit @coast --plan       says what your changes would do, and does nothing
  EDITOR=nano lantern machine edit

A book that breaks its rules is not taken: the editor opens again, or what you wrote is kept in
a file beside the book.")]
pub(crate) struct EditArgs {
    /// These machines only: names, globs, @tags, comma-separated
    #[arg(value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Say what the edit would change, and change nothing
    #[arg(long)]
    pub(crate) plan: bool,
}
