//! Arguments of `lantern key import`.

use clap::Args;

use crate::cli::secret_source::SecretSource;

use crate::cli::open::OpenArgs;

/// Arguments of `key import`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key import ~/Downloads/lamp-01.pem            asks for a name and a passphrase
  lantern key import lamp-01.pem --name lamp-01 --move  and its file is gone afterwards
  lantern key import - --name tide-gauge < pasted.txt

What the file is shows by its content; its name does not matter. The copy in the ring has
mode 0600 and, unless --plain says no, a passphrase. Warns when others could read the
original. --move removes a file that holds this one key and nothing else; any other stays,
and it says what else is in it.")]
pub(crate) struct ImportArgs {
    /// The file, in any container; - for standard input
    #[arg(value_hint = clap::ValueHint::FilePath)]
    pub(crate) file: String,
    /// Its name in the ring [default: asked for, with a suggestion]
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Remove the file once the key is in the ring
    #[arg(long = "move")]
    pub(crate) take: bool,
    /// Leave a key without passphrase as it is: whoever reads the file can use it
    #[arg(long)]
    pub(crate) plain: bool,
    /// Give it this comment
    #[arg(long, value_name = "TEXT")]
    pub(crate) comment: Option<String>,
    /// Of several keys in the file, take this one, counted from 1
    #[arg(long, value_name = "NUMBER")]
    pub(crate) pick: Option<usize>,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
    /// For a key without passphrase, read the new one from here: fd:N, file:PATH
    /// or command:LINE
    #[arg(long, value_name = "SOURCE", conflicts_with = "plain")]
    pub(crate) new_passphrase_from: Option<SecretSource>,
}
