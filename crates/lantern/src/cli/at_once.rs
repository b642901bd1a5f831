//! How many machines at once.

use clap::Args;

/// How many machines at once.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct AtOnceArgs {
    /// Machines at once [default: by the processors and open files of this computer]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=4096))]
    pub(crate) at_once: Option<u16>,
}
