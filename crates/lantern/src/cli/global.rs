//! Options of every command.

use std::path::PathBuf;

use clap::Args;

/// Under which its options stand in the help.
pub(crate) const HEADING: &str = "Everywhere";

/// Options of every command.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = HEADING)]
pub(crate) struct Global {
    /// Folder of book, trust and keys [default: $LANTERN_HOME, else the configuration folder]
    #[arg(long, global = true, display_order = 901, value_name = "DIR")]
    pub(crate) home: Option<PathBuf>,
    /// Say what happens; twice for every step of the protocol
    #[arg(short, long, global = true, display_order = 902, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    /// Say nothing but results and errors
    #[arg(short, long, global = true, display_order = 903, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Write every step of the protocol to a file (no secret is ever in it)
    #[arg(long, global = true, display_order = 904, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Print results as JSON
    #[arg(short, long, global = true, display_order = 905)]
    pub(crate) json: bool,
}
