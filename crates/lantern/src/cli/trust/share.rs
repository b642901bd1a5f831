//! Arguments of `lantern trust export` and `import`.

use std::path::PathBuf;

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;
use crate::cli::open::OpenArgs;

/// Arguments of `trust export`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust export --key harbour --to coast.trust
  lantern trust export @coast --except lamp-03 --key harbour > coast.trust
  lantern trust export --unsigned > for-reading.trust")]
pub(crate) struct ExportArgs {
    /// Only these machines: names, globs, @tags, comma-separated
    #[arg(value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// The key of the ring to sign with
    #[arg(long, value_name = "NAME", required_unless_present = "unsigned", add = crate::cli::completing::keys())]
    pub(crate) key: Option<String>,
    /// Don't sign: whoever reads it has to take your word for it
    #[arg(long, conflicts_with = "key")]
    pub(crate) unsigned: bool,
    /// Write to this file instead of standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "to")]
    pub(crate) replace: bool,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}

/// Arguments of `trust import`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust import coast.trust                       asks whether you believe who signed it
  lantern trust import coast.trust --signer SHA256:…     if it is signed with that key
  lantern trust import coast.trust --plan

Machines that you know by other keys are left as they are. A file that was changed after it
was signed is refused.")]
pub(crate) struct ImportArgs {
    /// The file; - for standard input
    pub(crate) file: PathBuf,
    /// Believe what this key signed: its fingerprint, or its name in the ring
    #[arg(long, value_name = "FINGERPRINT|NAME")]
    pub(crate) signer: Option<String>,
    /// Take in a file that nobody signed
    #[arg(long, conflicts_with = "signer")]
    pub(crate) unsigned: bool,
    /// Say what would change, and change nothing
    #[arg(long)]
    pub(crate) plan: bool,
}
