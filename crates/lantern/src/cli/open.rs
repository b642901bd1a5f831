//! Options of commands that open a key.

use clap::Args;

use crate::cli::secret_source::SecretSource;

/// Options of commands that open a key.
#[derive(Debug, Default, Args)]
pub(crate) struct OpenArgs {
    /// Read the key's passphrase from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) passphrase_from: Option<SecretSource>,
    /// Open it even when deriving its key takes minutes
    #[arg(long)]
    pub(crate) patient: bool,
}
