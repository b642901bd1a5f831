//! Arguments of `lantern machine export`, and the forms of inventories.

use clap::{Args, ValueEnum};

use crate::cli::machine::selection::ExceptArgs;

/// The forms of an inventory, as typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// Comma-separated values with a heading
    Csv,
    /// JSON
    Json,
    /// YAML
    Yaml,
    /// TOML
    Toml,
}

/// Arguments of `machine export`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine export --form csv > machines.csv
  lantern machine export @coast --form yaml

What each machine says itself is written; profiles and defaults are not. Importing the file
again gives the same machines.")]
pub(crate) struct ExportArgs {
    /// Only these: names, globs (`lamp-*`), tags (`@coast`), comma-separated
    #[arg(value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// The form to write
    #[arg(long, value_enum, default_value = "json")]
    pub(crate) form: Form,
}
