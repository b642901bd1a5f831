//! The commands of `lantern trust`.

pub(crate) mod accept;
pub(crate) mod audit;
pub(crate) mod list;
pub(crate) mod look;
pub(crate) mod revoke;
pub(crate) mod share;

use clap::{Args, Subcommand};

use crate::cli::machine::selection::SelectionArgs;
use crate::cli::machine::set::PlanArgs;

/// Commands of the trust store.
#[derive(Debug, Subcommand)]
pub(crate) enum TrustCommand {
    /// List what machines proved to be
    List(list::ListArgs),
    /// Show all that is known of a machine
    Show(ShowArgs),
    /// See which host keys machines present now; changes nothing, logs in nowhere
    Look(look::LookArgs),
    /// Trust what a machine presents now, in place of anything else
    Accept(accept::AcceptArgs),
    /// Forget what a machine proved to be
    Forget(ForgetArgs),
    /// Write what you have verified to a file for others, signed with a key of yours
    Export(share::ExportArgs),
    /// Take in what somebody else has verified and signed
    Import(share::ImportArgs),
    /// Refuse a key from now on, whoever presents it
    Revoke(revoke::RevokeArgs),
    /// List the keys that are refused
    #[command(after_help = "Examples:
  lantern trust revoked")]
    Revoked,
    /// Take a revocation back
    Unrevoke(revoke::UnrevokeArgs),
    /// Look for keys that machines share, weak ones, ones never compared, ones not seen for long
    Audit(audit::AuditArgs),
}

/// Arguments of `trust show`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust show lamp-01
  lantern trust show @coast --json")]
pub(crate) struct ShowArgs {
    #[command(flatten)]
    pub(crate) machines: SelectionArgs,
}

/// Arguments of `trust forget`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust forget lamp-01
  lantern trust forget '*' --except @coast --plan
  lantern trust forget 192.0.2.7:2222 --yes")]
pub(crate) struct ForgetArgs {
    #[command(flatten)]
    pub(crate) machines: SelectionArgs,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}
