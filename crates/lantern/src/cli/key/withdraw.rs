//! Arguments of `lantern key withdraw`.

use clap::Args;

use crate::cli::at_once::AtOnceArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::SelectionArgs;
use crate::cli::machine::set::PlanArgs;

/// Arguments of `key withdraw`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern key withdraw old-beacon lamp-01                logs in with another key or the password
  lantern key withdraw old-beacon lamp-01 --key harbour   with this one
  lantern key withdraw old-beacon @coast --yes

It logs in without the key first: that proves another way in, and without one nothing is
taken out.")]
pub(crate) struct WithdrawArgs {
    /// A name in the ring
    #[arg(add = crate::cli::completing::keys())]
    pub(crate) name: String,
    #[command(flatten)]
    pub(crate) machines: SelectionArgs,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
    #[command(flatten)]
    pub(crate) at_once: AtOnceArgs,
    /// Take it out even though no other way in is known: you may lock yourself out
    #[arg(long)]
    pub(crate) even_the_last: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
