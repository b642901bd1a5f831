//! The commands of `lantern profile` and their arguments.

use clap::{Args, Subcommand};

use crate::cli::machine::set::PlanArgs;

/// Commands of profiles.
#[derive(Debug, Subcommand)]
pub(crate) enum ProfileCommand {
    /// Add a profile
    Add(ChangeArgs),
    /// List the profiles
    #[command(after_help = "Examples:
  lantern profile list")]
    List,
    /// Show what a profile says, with the profiles that it builds on
    Show(NameArgs),
    /// Change a profile; `defaults` is what holds for all machines
    Set(ChangeArgs),
    /// Give a profile another name
    Rename(RenameArgs),
    /// Remove a profile
    Remove(RemoveArgs),
}

/// A profile and settings.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern profile add coast user=keeper key=harbour gateway=harbour-gate
  lantern profile add coast-windows profiles=coast protocol=winrm
  lantern profile set coast trust=known-only
  lantern profile set defaults user=keeper
  lantern machine set @coast profiles+=coast")]
pub(crate) struct ChangeArgs {
    /// Its name
    #[arg(add = crate::cli::completing::profiles())]
    pub(crate) name: String,
    /// What it says: FIELD=VALUE; += and -= for lists; an empty value takes the field away
    #[arg(value_name = "FIELD=VALUE", add = crate::cli::completing::changes())]
    pub(crate) changes: Vec<String>,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}

/// A profile by name.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern profile show coast")]
pub(crate) struct NameArgs {
    /// Its name
    #[arg(add = crate::cli::completing::profiles())]
    pub(crate) name: String,
}

/// Arguments of `profile remove`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern profile remove coast
  lantern profile remove coast --plan")]
pub(crate) struct RemoveArgs {
    /// Its name
    #[arg(add = crate::cli::completing::profiles())]
    pub(crate) name: String,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}

/// Arguments of `profile rename`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern profile rename coast coast-north")]
pub(crate) struct RenameArgs {
    /// Its name
    #[arg(add = crate::cli::completing::profiles())]
    pub(crate) name: String,
    /// Its new name
    pub(crate) new_name: String,
}
