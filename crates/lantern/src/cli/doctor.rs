//! Arguments of `lantern doctor`.

use clap::Args;

/// Arguments of `doctor`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern doctor
  lantern doctor --fix          mends permissions and stale sockets, after asking

Looks at this computer alone: the home and who may change it, book, trust and keys, the keeper
and other agents, the display, the clock, the terminal, completions. `lantern check MACHINE`
looks at the way to a machine. Exit code 1 when something is questionable.")]
pub(crate) struct DoctorArgs {
    /// Mend permissions and stale sockets, after a yes
    #[arg(long)]
    pub(crate) fix: bool,
    /// With --fix: don't ask
    #[arg(long, requires = "fix")]
    pub(crate) yes: bool,
}
