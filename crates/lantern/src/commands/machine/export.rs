//! `lantern machine export`

use clap::{Args, ValueEnum};
use lantern_book::{Home, InventoryForm, MachineBook, export_rows, select, write_inventory};

use crate::failure::Failure;
use crate::output;

/// The forms of an inventory, as typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(super) enum Form {
    /// Comma-separated values with a heading
    Csv,
    /// JSON
    Json,
    /// YAML
    Yaml,
    /// TOML
    Toml,
}

impl From<Form> for InventoryForm {
    fn from(form: Form) -> Self {
        match form {
            Form::Csv => Self::Csv,
            Form::Json => Self::Json,
            Form::Yaml => Self::Yaml,
            Form::Toml => Self::Toml,
        }
    }
}

/// Arguments of `machine export`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine export --form csv > machines.csv
  lantern machine export @coast --form yaml

What each machine says itself is written; profiles and defaults are not. Importing the file
again gives the same machines.")]
pub(crate) struct ExportArgs {
    /// Only these: names, globs (`lamp-*`), tags (`@coast`), comma-separated; `!` leaves out
    #[arg(value_name = "SELECTION", add = crate::completing::selection())]
    selection: Vec<String>,
    /// The form to write
    #[arg(long, value_enum, default_value = "json")]
    form: Form,
}

pub(super) fn run(args: &ExportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let names = match args.selection.is_empty() {
        true => book.iter().map(|(name, _)| name.to_owned()).collect(),
        false => select(&book, &args.selection)?,
    };
    let machines = names.iter().map(|name| Ok((name.as_str(), book.get(name)?)));
    let machines = machines.collect::<Result<Vec<_>, lantern_book::BookError>>()?;
    let form = if json { InventoryForm::Json } else { args.form.into() };
    output::print(&write_inventory(&export_rows(machines.into_iter()), form)?)
}
