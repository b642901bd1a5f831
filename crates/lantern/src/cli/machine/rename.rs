//! Arguments of `lantern machine rename`, `copy` and `remove`.

use clap::Args;

use super::selection::SelectionArgs;
use super::set::PlanArgs;

/// Arguments of `machine rename`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine rename lamp-01 lamp-north
  lantern machine rename 'lamp-*' 'coast-lamp-*' --plan

What it proved to be, and where keys are installed, goes with it.")]
pub(crate) struct RenameArgs {
    /// Its name; or a glob with one `*`, for several
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) name: String,
    /// Its new name; with a `*` for what the other `*` stood for
    pub(crate) new_name: String,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}

/// Arguments of `machine copy`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine copy lamp-01 lamp-02 address=192.0.2.8
  lantern machine copy 'lamp-*' 'spare-*' port=2222 --plan")]
pub(crate) struct CopyArgs {
    /// The machine to take the settings from; or a glob with one `*`, for several
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) name: String,
    /// The new machine; with a `*` for what the other `*` stood for
    pub(crate) new_name: String,
    /// What is different
    #[arg(value_name = "FIELD=VALUE", add = crate::cli::completing::changes())]
    pub(crate) changes: Vec<String>,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}

/// Arguments of `machine remove`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine remove lamp-01
  lantern machine remove @retired --plan")]
pub(crate) struct RemoveArgs {
    #[command(flatten)]
    pub(crate) machines: SelectionArgs,
    #[command(flatten)]
    pub(crate) plan: PlanArgs,
}
