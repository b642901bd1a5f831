//! Arguments of `lantern demo`.

use clap::Args;

/// Arguments of `demo`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern demo           walk through, Enter after Enter, and clean up
  lantern demo --no-pause > walk.txt
  lantern demo --stay    and keep the machines lit, to try things in another terminal

Everything lives in a temporary folder and on loopback addresses; nothing of yours is touched.")]
pub(crate) struct DemoArgs {
    /// Keep the simulated machines lit until Ctrl-C
    #[arg(long)]
    pub(crate) stay: bool,
    /// Don't wait for Enter between the steps
    #[arg(long)]
    pub(crate) no_pause: bool,
    /// Skip the walk (with --stay)
    #[arg(long, requires = "stay")]
    pub(crate) no_walk: bool,
    /// Delay every byte from and to the machines by this many milliseconds each way
    #[arg(long, value_name = "MS", value_parser = clap::value_parser!(u64).range(1..=10_000))]
    pub(crate) latency: Option<u64>,
}
