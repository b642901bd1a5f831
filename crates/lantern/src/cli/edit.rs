//! Arguments of `lantern edit`.

use std::ffi::OsString;

use clap::Args;

use crate::cli::acting::ActingArgs;
use crate::cli::connect::ConnectArgs;

/// Arguments of `edit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern edit lamp-01:/etc/lamp/lamp.conf
  lantern edit lamp-01:notes.txt --new
  lantern edit lamp-01:/etc/lamp/lamp.conf --as root
  EDITOR='my-editor --wait' lantern edit lamp-01:/srv/site/index.html

The file opens in the editor that VISUAL or EDITOR names, and is put back at each save while it is
open: written beside its place and renamed, with its owner, its permissions and its line ends.
Where somebody else has changed it meanwhile, nothing is written over; you are asked once the
editor is closed. Nothing of it stays here, but for a draft of what could not be put back.

An editor that opens a window and ends at once is waited for until you press Enter.")]
pub(crate) struct EditArgs {
    /// The file: MACHINE:PATH
    #[arg(value_name = "MACHINE:PATH", add = crate::cli::completing::places())]
    pub(crate) place: OsString,
    /// Begin a file that is not there
    #[arg(long)]
    pub(crate) new: bool,
    #[command(flatten)]
    pub(crate) acting: ActingArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
