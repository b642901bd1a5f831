//! The commands of `lantern tunnel` and their arguments.

pub(crate) mod change;
pub(crate) mod list;
pub(crate) mod open;

use clap::Subcommand;

use change::{AddTunnelArgs, RemoveTunnelArgs, SetTunnelArgs};
use list::{CloseTunnelArgs, ListTunnelsArgs, ProbeTunnelArgs};
use open::OpenTunnelArgs;

/// Commands about tunnels.
#[derive(Debug, Subcommand)]
pub(crate) enum TunnelCommand {
    /// Open tunnels of a machine, and keep them up
    Open(Box<OpenTunnelArgs>),
    /// List tunnels: those that are open, and those of the book
    List(ListTunnelsArgs),
    /// Close tunnels that are open
    Close(CloseTunnelArgs),
    /// Find out what answers behind tunnels
    Probe(Box<ProbeTunnelArgs>),
    /// Put a tunnel into the book
    Add(AddTunnelArgs),
    /// Change a tunnel in the book
    Set(SetTunnelArgs),
    /// Take tunnels out of the book
    Remove(RemoveTunnelArgs),
}
