//! Arguments of `lantern tunnel list`, `close` and `probe`.

use clap::Args;

use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::ExceptArgs;

/// Arguments of `tunnel list`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel list                those that are open, and those of the book
  lantern tunnel list @coast --open
  lantern tunnel list --watch        drawn anew as things happen; Ctrl-C ends it")]
pub(crate) struct ListTunnelsArgs {
    /// Machines: names, globs, @tags, comma-separated [default: all]
    #[arg(value_name = "SELECTION", add = crate::cli::completing::selection())]
    pub(crate) selection: Vec<String>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    /// Only those that are open
    #[arg(long)]
    pub(crate) open: bool,
    /// Draw the list anew as things happen
    #[arg(long)]
    pub(crate) watch: bool,
}

/// Arguments of `tunnel close`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel close signal-hut            all of its tunnels that are open
  lantern tunnel close signal-hut console
  lantern tunnel close --all")]
pub(crate) struct CloseTunnelArgs {
    /// A machine, as it was called when they were opened
    #[arg(required_unless_present = "all", add = crate::cli::completing::machines())]
    pub(crate) machine: Option<String>,
    /// Names of tunnels; none: all of the machine's
    #[arg(value_name = "NAME", add = crate::cli::completing::tunnels())]
    pub(crate) names: Vec<String>,
    /// Close all tunnels of all machines
    #[arg(long, conflicts_with_all = ["machine", "names"])]
    pub(crate) all: bool,
}

/// Arguments of `tunnel probe`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern tunnel probe signal-hut            what is behind each of its tunnels
  lantern tunnel probe signal-hut console --json

Tunnels that are open are asked where they are open; for the others lantern logs in, looks, and
goes. Nothing is opened here. The exit code is 1 when nothing answers behind one of them.")]
pub(crate) struct ProbeTunnelArgs {
    /// A machine: a name in the book
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) machine: String,
    /// Names of tunnels; none: all of the machine's
    #[arg(value_name = "NAME", add = crate::cli::completing::tunnels())]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
