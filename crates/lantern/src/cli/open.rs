//! Options of commands that open a key.

use clap::Args;

/// Options of commands that open a key.
#[derive(Debug, Default, Args)]
pub(crate) struct OpenArgs {
    /// Read the key's passphrase from this file descriptor
    #[arg(long, value_name = "N")]
    pub(crate) passphrase_fd: Option<u32>,
    /// Open it even when deriving its key takes minutes
    #[arg(long)]
    pub(crate) patient: bool,
}
