//! `lantern files`: looking at files on machines, and moving, removing and changing them.

mod at_each;
mod change;
mod list;
mod moving;
mod remove;
mod show;

use lantern_operations::files::FileFault;

use self::at_each::{Reached, at_each};
use super::block_on;
use crate::cli::files::FilesCommand;
use crate::cli::global::Global;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};

pub(crate) fn run(command: &FilesCommand, global: &Global) -> Result<u8, Failure> {
    match command {
        FilesCommand::List(args) => list::run(args, global),
        FilesCommand::Show(args) => show::run(args, global),
        FilesCommand::MakeFolder(args) => change::make_folder(args, global),
        FilesCommand::Move(args) => moving::run(args, global),
        FilesCommand::Remove(args) => remove::run(args, global),
        FilesCommand::Change(args) => change::run(args, global),
    }
}

impl From<FileFault> for Failure {
    fn from(fault: FileFault) -> Self {
        (&fault).into()
    }
}

/// Nothing is there by that name.
fn not_there(machine: &str, path: &[u8]) -> Failure {
    Failure::new(code::SESSION, format!("there is no {} on {machine}", shown(path)))
}
