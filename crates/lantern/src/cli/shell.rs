//! Arguments of `lantern shell`.

use clap::Args;

use crate::cli::connect::ConnectArgs;
use crate::cli::forward::ForwardArgs;

/// Arguments of `shell`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern shell lamp-01
  lantern shell keeper@192.0.2.7:2222
  lantern shell lamp-01 --resume-prompt --keep-alive 5

When a session hangs: Ctrl-^ three times within a second opens a line with three choices: e
ends it, z suspends lantern, s shows the session's state. Fewer strokes go to the machine
like any other key; --no-escape switches it off.

The exit status is that of the remote shell.")]
pub(crate) struct ShellArgs {
    /// A machine: a name in the book, or user@address:port
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) machine: String,
    /// Pass Ctrl-^ on like any other key
    #[arg(long)]
    pub(crate) no_escape: bool,
    /// When the link dies, offer to connect again with the same settings
    #[arg(long)]
    pub(crate) resume_prompt: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
    #[command(flatten)]
    pub(crate) forward: ForwardArgs,
}
