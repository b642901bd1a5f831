//! Options of commands that can forward the agent.

use clap::Args;

/// Options of commands that can forward the agent.
#[derive(Debug, Args)]
#[command(next_help_heading = crate::cli::connect::HEADING)]
pub(crate) struct ForwardArgs {
    /// Let the machine ask for signatures while this lasts; each one wants your yes
    #[arg(long)]
    pub(crate) forward_agent: bool,
    /// Don't, whatever the book says
    #[arg(long, conflicts_with = "forward_agent")]
    pub(crate) no_forward_agent: bool,
    /// Let the machine have every signature it asks for: whoever rules it can log in as you elsewhere
    #[arg(long, conflicts_with = "no_forward_agent")]
    pub(crate) forward_agent_unasked: bool,
}
