//! A selection of machines, as it is typed.

use clap::Args;

/// A selection of machines.
#[derive(Debug, Args)]
pub(crate) struct SelectionArgs {
    /// Machines: names, globs (`lamp-*`), tags (`@coast`), comma-separated; `!` leaves out
    #[arg(required = true, value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
}
