//! The commands of `lantern machine`.

pub(crate) mod add;
pub(crate) mod edit;
pub(crate) mod export;
pub(crate) mod import;
pub(crate) mod list;
pub(crate) mod prepare;
pub(crate) mod rename;
pub(crate) mod selection;
pub(crate) mod set;
pub(crate) mod show;

use clap::Subcommand;

/// Commands of the book.
#[derive(Debug, Subcommand)]
pub(crate) enum MachineCommand {
    /// Add a machine: by its address, by what a console hands out, or by answering questions
    Add(add::AddArgs),
    /// Print a script that makes a machine reachable, to be pasted on its own console
    Prepare(prepare::PrepareArgs),
    /// List the machines
    List(list::ListArgs),
    /// Show everything that holds for a machine, and where each setting comes from
    Show(show::ShowArgs),
    /// Change settings of machines
    Set(set::SetArgs),
    /// Open the book in your editor; it is checked before it is taken
    Edit(edit::EditArgs),
    /// Give a machine another name
    Rename(rename::RenameArgs),
    /// Add a machine like another one
    Copy(rename::CopyArgs),
    /// Remove machines
    Remove(rename::RemoveArgs),
    /// Bring the book in line with an inventory: CSV, JSON, YAML or TOML
    Import(import::ImportArgs),
    /// Write machines as CSV, JSON, YAML or TOML
    Export(export::ExportArgs),
    /// Print a JSON Schema of machines.toml, for editors to complete from
    #[command(after_help = "Examples:
  lantern machine schema > machines.schema.json")]
    Schema,
}
