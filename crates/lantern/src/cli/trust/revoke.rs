//! Arguments of `lantern trust revoke` and `unrevoke`.

use clap::Args;
use lantern_keys::Fingerprint;

/// Arguments of `trust revoke`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust revoke SHA256:… --reason 'copied with the image of lamp-02'
  lantern trust revoke old-host-key.pub --reason 'found in a backup'")]
pub(crate) struct RevokeArgs {
    /// The fingerprint, or a file with the public key (a path with a `/` or a dot)
    pub(crate) key: String,
    /// Why: it is shown to whoever meets the key
    #[arg(long, value_name = "TEXT")]
    pub(crate) reason: String,
}

/// Arguments of `trust unrevoke`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust unrevoke SHA256:…")]
pub(crate) struct UnrevokeArgs {
    /// The fingerprint
    pub(crate) fingerprint: Fingerprint,
}
