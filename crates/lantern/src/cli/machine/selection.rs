//! A selection of machines, as it is typed.

use clap::Args;

/// A selection of machines.
#[derive(Debug, Clone, Args)]
pub(crate) struct SelectionArgs {
    /// Machines: names, globs (`lamp-*`), tags (`@coast`), comma-separated
    #[arg(required = true, value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
}

/// What a selection leaves out.
#[derive(Debug, Clone, Args)]
pub(crate) struct ExceptArgs {
    /// Leave these out: names, globs, tags, comma-separated
    #[arg(long, value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) except: Vec<String>,
}
