//! Arguments of `lantern run`.

use clap::Args;

use crate::cli::connect::ConnectArgs;
use crate::cli::forward::ForwardArgs;

/// Arguments of `run`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern run lamp-01 -- uptime
  lantern run keeper@192.0.2.7:2222 -- tar -cf - /var/log > logs.tar
  tar -cf - site | lantern run lamp-01 -- tar -xf -

The words after -- are joined with spaces and handed to the shell of the user on the
machine. Its exit status is passed on; a signal that ended it becomes 128 and its number.
Ctrl-C sends it the signal INT; a second one ends lantern (exit code 252).")]
pub(crate) struct RunArgs {
    /// A machine: a name in the book, or user@address:port
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) machine: String,
    /// The command and its words
    #[arg(last = true, required = true, value_name = "COMMAND")]
    pub(crate) command: Vec<std::ffi::OsString>,
    /// Don't pass on standard input
    #[arg(long)]
    pub(crate) no_input: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
    #[command(flatten)]
    pub(crate) forward: ForwardArgs,
}
