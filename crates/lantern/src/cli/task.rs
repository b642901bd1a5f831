//! Arguments for a text that runs in a session of PowerShell.

use std::path::PathBuf;

use clap::Args;
use lantern_book::{Field, FieldValue};
use lantern_operations::remoting::BoundArgument;

/// Under which they stand in the help.
const HEADING: &str = "PowerShell, over WinRM";

/// Arguments of what runs in a session of PowerShell.
#[derive(Debug, Args)]
#[command(next_help_heading = HEADING)]
pub(crate) struct TaskArgs {
    /// Run the script in this file, or the one that comes on standard input (-)
    #[arg(long, value_name = "FILE", conflicts_with = "expression")]
    pub(crate) script: Option<PathBuf>,
    /// Run this text
    #[arg(long, value_name = "TEXT")]
    pub(crate) expression: Option<String>,
    /// A value for a parameter of it; without a value, the parameter is switched on. Nothing of it becomes a part of the text
    #[arg(long = "argument", value_name = "NAME[=VALUE]", value_parser = bound)]
    pub(crate) arguments: Vec<BoundArgument>,
    /// Take standard input as JSON: values behind each other, or one list of them
    #[arg(long)]
    pub(crate) input_json: bool,
    /// With --json, how deep objects within objects are shown; below that they are text
    #[arg(long, value_name = "N", default_value_t = 8, value_parser = clap::value_parser!(u8).range(1..=64))]
    pub(crate) depth: u8,
    /// End with status 1 where an error was told, also one that the script went on after
    #[arg(long)]
    pub(crate) strict: bool,
}

/// The endpoint of a session.
#[derive(Debug, Args)]
#[command(next_help_heading = HEADING)]
pub(crate) struct ConfigurationArgs {
    /// The endpoint on the machine, of a newer version or a restricted one [default: the book's, else Microsoft.PowerShell]
    #[arg(long, value_name = "NAME", value_parser = endpoint)]
    pub(crate) configuration: Option<String>,
}

fn endpoint(name: &str) -> Result<String, String> {
    let value = FieldValue::parse(Field::Configuration, name);
    value.map(|_| name.to_owned()).map_err(|why| why.to_string())
}

fn bound(text: &str) -> Result<BoundArgument, String> {
    let (name, value) = match text.split_once('=') {
        Some((name, value)) => (name, Some(value.to_owned())),
        None => (text, None),
    };
    let is_name = !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-');
    match is_name && !name.starts_with('-') {
        true => Ok(BoundArgument { name: name.to_owned(), value }),
        false => Err("must be NAME=VALUE or NAME; the name has no dash before it".to_owned()),
    }
}

impl TaskArgs {
    /// Whether there is a text to run.
    pub(crate) fn is_some(&self) -> bool {
        self.script.is_some() || self.expression.is_some()
    }

    /// The first option that makes sense with a text alone, where one was said.
    pub(crate) fn option_without_text(&self) -> Option<&'static str> {
        let said = [
            (!self.arguments.is_empty(), "--argument"),
            (self.input_json, "--input-json"),
            (self.strict, "--strict"),
        ];
        said.into_iter().find(|(is, _)| *is && !self.is_some()).map(|(_, name)| name)
    }
}
