//! `lantern machine export`

use lantern_book::{Home, InventoryForm, MachineBook, export_rows, select, write_inventory};

use crate::cli::machine::export::{ExportArgs, Form};
use crate::screen::failure::Failure;
use crate::screen::output;

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

pub(super) fn run(args: &ExportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let names = match args.selection.is_empty() && args.but.except.is_empty() {
        true => book.iter().map(|(name, _)| name.to_owned()).collect(),
        false => select(&book, &args.selection, &args.but.except)?,
    };
    let machines = names.iter().map(|name| Ok((name.as_str(), book.get(name)?)));
    let machines = machines.collect::<Result<Vec<_>, lantern_book::BookError>>()?;
    let form = if json { InventoryForm::Json } else { args.form.into() };
    output::print_raw(write_inventory(&export_rows(machines.into_iter()), form)?.as_bytes())
}
