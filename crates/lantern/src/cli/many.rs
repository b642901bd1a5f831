//! Arguments for what runs on many machines.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use crate::cli::at_once::AtOnceArgs;
use crate::cli::machine::selection::ExceptArgs;

/// Under which they stand in the help.
const HEADING: &str = "Many machines";

/// Which machines of the last run are gone to again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Again {
    /// Those that failed, were not reached, or were not begun
    Failed,
    /// All of them
    All,
}

/// Arguments for what runs on many machines.
#[derive(Debug, Args)]
#[command(next_help_heading = HEADING)]
pub(crate) struct ManyArgs {
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    #[command(flatten)]
    pub(crate) at_once: AtOnceArgs,
    /// Run it on so many first, show what came of it, and ask before the rest
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) first: Option<u32>,
    /// With --first: go on without asking, where all of them succeeded
    #[arg(long, requires = "first")]
    pub(crate) yes: bool,
    /// Begin no more once so many have failed
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) stop_after: Option<u32>,
    /// Write all output into this folder as well: MACHINE.out and MACHINE.err
    #[arg(long, value_name = "FOLDER")]
    pub(crate) to: Option<PathBuf>,
    /// Say which machines it would run on, how each is reached, and what would run; and run nothing
    #[arg(long)]
    pub(crate) plan: bool,
    /// What ran last, once more on these of its machines
    #[arg(long, value_enum, value_name = "WHICH", conflicts_with_all = ["machine", "command", "script", "expression", "paste"])]
    pub(crate) again: Option<Again>,
    /// List the last runs on many machines
    #[arg(long, conflicts_with_all = ["again", "machine", "command", "script", "expression", "paste"])]
    pub(crate) history: bool,
}

impl ManyArgs {
    /// An option that makes sense for many machines alone, where one was said.
    pub(crate) fn is_some(&self) -> bool {
        self.at_once.at_once.is_some()
            || self.first.is_some()
            || self.stop_after.is_some()
            || self.to.is_some()
            || self.plan
            || !self.but.except.is_empty()
    }
}
