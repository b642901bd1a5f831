//! Arguments of `lantern key audit`.

use std::path::PathBuf;

use clap::Args;

/// Arguments of `key audit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key audit                            the ring
  lantern key audit --path ~/Downloads         and every key below this folder
  lantern key audit --max-age 180 --json       for a script

Looks for keys without a passphrase or with one that is quickly searched, weak algorithms
and sizes, permissions that let others read, private keys where public ones belong,
duplicates, age, and keys that no machine uses. Removal is advised for nothing but a spare
copy. Says what was not looked at. Exit status 0 when nothing was found, 1 when something
was.")]
pub(crate) struct AuditArgs {
    /// Look through this folder as well; may be given several times
    #[arg(long = "path", value_name = "DIR")]
    pub(crate) paths: Vec<PathBuf>,
    /// Days after which a key of the ring is old
    #[arg(long, value_name = "DAYS", default_value_t = 730, value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) max_age: u32,
}
