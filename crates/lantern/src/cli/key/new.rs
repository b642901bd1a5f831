//! Arguments of `lantern key new`.

use clap::Args;

use crate::cli::secret_source::SecretSource;
use lantern_keys::KeyAlgorithm;

/// Arguments of `key new`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key new harbour                            Ed25519, asks for a passphrase
  lantern key new old-beacon --algorithm rsa-3072    for machines that know nothing newer
  lantern key new robot --passphrase-from fd:3 3< FILE    for scripts

The private half stays in the ring with mode 0600; the public half is what machines get.")]
pub(crate) struct NewArgs {
    /// Its name in the ring
    pub(crate) name: String,
    /// Algorithm: ed25519, ecdsa-p256, ecdsa-p384, ecdsa-p521, rsa-2048, rsa-3072, rsa-4096, rsa-8192
    #[arg(long, value_name = "ALGORITHM", default_value = "ed25519", value_parser = algorithm, add = crate::cli::completing::algorithms())]
    pub(crate) algorithm: KeyAlgorithm,
    /// Whose it is, in free words [default: user@host of this computer]
    #[arg(long, value_name = "TEXT")]
    pub(crate) comment: Option<String>,
    /// Make it without a passphrase: whoever reads the file can use it
    #[arg(long, conflicts_with = "passphrase_from")]
    pub(crate) plain: bool,
    /// Read the passphrase from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) passphrase_from: Option<SecretSource>,
}

pub(crate) fn algorithm(name: &str) -> Result<KeyAlgorithm, String> {
    KeyAlgorithm::from_name(name)
        .ok_or_else(|| format!("one of {}", KeyAlgorithm::NAMES.map(|(name, _)| name).join(", ")))
}
