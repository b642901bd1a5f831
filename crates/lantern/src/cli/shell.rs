//! Arguments of `lantern shell`.

use clap::Args;

use crate::cli::connect::ConnectArgs;
use crate::cli::forward::{DisplayKind, ForwardArgs};
use crate::cli::one_off::OneOffArgs;
use crate::cli::task::ConfigurationArgs;

/// Arguments of `shell`.
#[derive(Debug, Args)]
#[command(after_help = r"Examples:
  lantern shell lamp-01
  lantern shell                             pick one: type parts of a name, address, tag or note
  lantern shell keeper@192.0.2.7:2222
  lantern shell --paste 'connect -i lamp.pem keeper@192.0.2.7'
  lantern shell lamp-01 --resume-prompt --dead-after 10
  lantern shell lamp-01 --display           its graphical programs draw here
  lantern shell chart-room                  Windows, over WinRM: a session of PowerShell

When a session hangs: Ctrl-\ three times within a second opens a line with three choices: e
ends it, z suspends lantern, s shows the session's state. Fewer strokes go to the machine
like any other key; --no-escape switches it off.

On Windows, over WinRM, it is a session of PowerShell: lines are edited here, Tab asks the
machine, Ctrl-C stops what runs, `exit N` ends it. Lines that begin with a space are not kept.
A link that is lost is made again, and the session goes on where the machine kept it.

The exit status is that of the remote shell.")]
pub(crate) struct ShellArgs {
    /// A machine: a name in the book, or user@address:port; without one, you pick
    #[arg(conflicts_with = "paste", add = crate::cli::completing::machines())]
    pub(crate) machine: Option<String>,
    /// What kind of display, where it was typed as a word of its own
    #[arg(hide = true, requires = "display")]
    pub(crate) kind: Option<DisplayKind>,
    #[command(flatten)]
    pub(crate) one_off: OneOffArgs,
    /// Pass Ctrl-\ on like any other key
    #[arg(long)]
    pub(crate) no_escape: bool,
    /// When the link dies, offer to connect again with the same settings
    #[arg(long)]
    pub(crate) resume_prompt: bool,
    /// Over WinRM, the command interpreter as a process, with no editing of its own
    #[arg(long, conflicts_with = "configuration", help_heading = "PowerShell, over WinRM")]
    pub(crate) plain: bool,
    #[command(flatten)]
    pub(crate) configuration: ConfigurationArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
    #[command(flatten)]
    pub(crate) forward: ForwardArgs,
}

impl ShellArgs {
    /// Notes the word behind `--display` that says which kind.
    pub(crate) fn look_at_words(&mut self) {
        self.forward.display = self.kind.take().or(self.forward.display);
    }
}
