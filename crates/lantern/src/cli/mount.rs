//! Arguments of `lantern mount` and `lantern unmount`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;

use crate::cli::acting::ActingArgs;
use crate::cli::connect::ConnectArgs;

/// Arguments of `mount`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern mount lamp-01:/srv/site ~/site
  lantern mount lamp-01: ~/lamp --read-only        the home of the user there
  lantern mount --list
  lantern unmount ~/site

A folder of a machine is seen as one of this computer, through FUSE: any program reads and writes
what stays on the machine. It goes on in the background until it is unmounted, and connects anew when
the connection was lost. What is known of files counts for two seconds (--cache); what a program
writes is there, or told as its failure, when the program closes the file.

All files belong to you here; what may be done with them, the machine decides.")]
pub(crate) struct MountArgs {
    /// The folder there: MACHINE:PATH, or ssh://USER@ADDRESS:PORT/PATH
    #[arg(value_name = "MACHINE:PATH", required_unless_present = "list", add = crate::cli::completing::places())]
    pub(crate) place: Option<OsString>,
    /// The folder here, which is empty
    #[arg(value_name = "FOLDER", required_unless_present = "list")]
    pub(crate) folder: Option<PathBuf>,
    /// Tell which folders are mounted
    #[arg(long, conflicts_with_all = ["place", "folder"])]
    pub(crate) list: bool,
    /// Write nothing
    #[arg(long)]
    pub(crate) read_only: bool,
    /// How long what is known of files counts, in seconds; 0: not at all
    #[arg(long, value_name = "SECONDS", default_value_t = 2, value_parser = clap::value_parser!(u16).range(0..=3600))]
    pub(crate) cache: u16,
    /// Stay in the foreground; Ctrl-C unmounts
    #[arg(long)]
    pub(crate) foreground: bool,
    #[command(flatten)]
    pub(crate) acting: ActingArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// Arguments of `unmount`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern unmount ~/site
  lantern unmount ~/site --lazily        also where a program is still at it")]
pub(crate) struct UnmountArgs {
    /// The folders here
    #[arg(required = true, value_name = "FOLDER")]
    pub(crate) folders: Vec<PathBuf>,
    /// Also where programs still have files of it open: those see nothing new
    #[arg(long)]
    pub(crate) lazily: bool,
}
