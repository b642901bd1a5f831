//! Arguments of `lantern key passphrase`, `rename` and `comment`.

use clap::Args;

use crate::cli::secret_source::SecretSource;

use crate::cli::open::OpenArgs;

/// Arguments of `key passphrase`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key passphrase harbour            asks for the old one, then for the new one twice
  lantern key passphrase robot --plain      drops it: whoever reads the file can use the key")]
pub(crate) struct PassphraseArgs {
    /// A name in the ring
    #[arg(add = crate::cli::completing::keys())]
    pub(crate) name: String,
    /// Drop the passphrase
    #[arg(long, conflicts_with = "new_passphrase_from")]
    pub(crate) plain: bool,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
    /// Read the new passphrase from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) new_passphrase_from: Option<SecretSource>,
}

/// Arguments of `key rename`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key rename imported lamp-01       machines that name it are changed too")]
pub(crate) struct RenameArgs {
    /// A name in the ring
    #[arg(add = crate::cli::completing::keys())]
    pub(crate) name: String,
    /// The new name
    pub(crate) new_name: String,
}

/// Arguments of `key comment`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key comment harbour 'keeper@chart-room, second floor'

Comments stand in the public half and, behind the passphrase, in the private one. Those that
machines have already stay as they are.")]
pub(crate) struct CommentArgs {
    /// A name in the ring
    #[arg(add = crate::cli::completing::keys())]
    pub(crate) name: String,
    /// The new comment
    pub(crate) comment: String,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}
