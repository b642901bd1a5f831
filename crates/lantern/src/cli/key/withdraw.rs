//! Arguments of `lantern key withdraw`.

use clap::Args;

use crate::cli::connect::ConnectArgs;

/// Arguments of `key withdraw`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key withdraw old-beacon lamp-01                logs in with another key or the password
  lantern key withdraw old-beacon lamp-01 --key harbour   with this one

It logs in without the key first: that proves another way in, and without one nothing is
taken out.")]
pub(crate) struct WithdrawArgs {
    /// A name in the ring
    pub(crate) name: String,
    /// A machine: a name in the book, or user@address:port
    pub(crate) machine: String,
    /// Take it out even though no other way in is known: you may lock yourself out
    #[arg(long)]
    pub(crate) even_the_last: bool,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}
