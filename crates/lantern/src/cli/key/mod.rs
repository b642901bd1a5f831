//! The commands of `lantern key`.

pub(crate) mod audit;
pub(crate) mod change;
pub(crate) mod convert;
pub(crate) mod import;
pub(crate) mod install;
pub(crate) mod new;
pub(crate) mod remove;
pub(crate) mod rotate;
pub(crate) mod show;
pub(crate) mod withdraw;

use clap::Subcommand;

/// Commands of the key ring.
#[derive(Debug, Subcommand)]
pub(crate) enum KeyCommand {
    /// Make a key pair
    New(new::NewArgs),
    /// Take a key that was made elsewhere into the ring
    Import(import::ImportArgs),
    /// List the key ring
    #[command(after_help = "Examples:
  lantern key list
  lantern key list --json")]
    List,
    /// Show all about a key of the ring, or about what is in a key file
    Show(show::ShowArgs),
    /// Write a key, or its public half, in another container
    Convert(convert::ConvertArgs),
    /// Change, set or drop the passphrase of a key
    Passphrase(change::PassphraseArgs),
    /// Give a key another name
    Rename(change::RenameArgs),
    /// Give a key another comment
    Comment(change::CommentArgs),
    /// Remove a key from the ring
    Remove(remove::RemoveArgs),
    /// Put the public half of a key on a machine, and prove it by logging in
    Install(install::InstallArgs),
    /// Take a key out of a machine, unless it is the last way in
    Withdraw(withdraw::WithdrawArgs),
    /// Replace a key by a new one, machine by machine
    Rotate(rotate::RotateArgs),
    /// Look for what is wrong with keys
    Audit(audit::AuditArgs),
}
