//! Options of commands that reach a machine which need not be in the book.

use clap::Args;

/// A machine by a pasted text, and keeping one that worked.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct OneOffArgs {
    /// Reach what this text leads to (a URI, a connect line, a console's page); - reads standard input
    #[arg(long, value_name = "TEXT")]
    pub(crate) paste: Option<String>,
    /// Once it has worked, keep the machine in the book under this name, and the key that the text names in the ring
    #[arg(long, value_name = "NAME")]
    pub(crate) save: Option<String>,
}
