//! `lantern completions`

use clap_complete::env::Shells;

use crate::cli::completions::CompletionsArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// The variable by which a shell asks this program what it could complete.
pub(crate) const VARIABLE: &str = "LANTERN_COMPLETE";

pub(crate) fn run(args: &CompletionsArgs) -> Result<(), Failure> {
    let name = args.shell.to_string();
    let shells = Shells::builtins();
    let shell = shells
        .completer(&name)
        .ok_or_else(|| Failure::new(code::USAGE, format!("there are no completions for {name}")))?;
    let mut script = Vec::new();
    shell
        .write_registration(VARIABLE, "lantern", "lantern", "lantern", &mut script)
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot write the script: {error}")))?;
    output::print_raw(&script)
}
