//! `lantern completions`

use clap::Args;
use clap_complete::Shell;
use clap_complete::env::Shells;

use crate::failure::{Failure, code};
use crate::output;

/// The variable by which a shell asks this program what it could complete.
pub(crate) const VARIABLE: &str = "LANTERN_COMPLETE";

/// Arguments of `completions`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern completions bash > ~/.local/share/bash-completion/completions/lantern
  lantern completions fish > ~/.config/fish/completions/lantern.fish

The script asks lantern itself, so machines, tags, keys and fields of your book are completed.")]
pub(crate) struct CompletionsArgs {
    /// The shell
    shell: Shell,
}

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
    output::print(&String::from_utf8_lossy(&script))
}
