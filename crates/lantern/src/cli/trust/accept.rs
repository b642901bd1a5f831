//! Arguments of `lantern trust accept`.

use std::path::PathBuf;

use clap::Args;

use crate::cli::machine::selection::ExceptArgs;

use crate::cli::connect::ConnectArgs;

/// Arguments of `trust accept`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust accept lamp-01                        shows the key and asks
  lantern trust accept lamp-01 --expect SHA256:…      takes that key and no other, without asking
  lantern trust accept lamp-01 --paste -              the line that its own console printed
  lantern trust accept @coast --expect-file list.txt  takes what the list has, without asking
  lantern trust accept chart-room --certificate f.pem trusts a TLS certificate
  lantern trust accept @house --authority ca.pem      believes an authority, for these machines

Each line of the list has a machine and the fingerprints that its keys may have. Keys that were
not compared are trusted only by a yes, and only those that are shown.")]
pub(crate) struct AcceptArgs {
    /// Machines: names, globs, @tags, comma-separated; or `address:port`
    #[arg(required = true, value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Read the fingerprints that keys must have from a file
    #[arg(long, value_name = "FILE", conflicts_with = "expect")]
    pub(crate) expect_file: Option<PathBuf>,
    /// Take the keys that the line of a prepared machine has; - reads standard input
    #[arg(long, value_name = "LINE", conflicts_with_all = ["expect", "expect_file"])]
    pub(crate) paste: Option<String>,
    /// Trust the TLS certificate in this file (PEM or DER)
    #[arg(long, value_name = "FILE", conflicts_with_all = ["expect", "expect_file", "paste"])]
    pub(crate) certificate: Option<PathBuf>,
    /// Believe the authority in this file (PEM or DER) about certificates of these machines, and of no others
    #[arg(long, value_name = "FILE", conflicts_with_all = ["expect", "expect_file", "paste", "certificate"])]
    pub(crate) authority: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
