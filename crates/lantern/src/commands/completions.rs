//! `lantern completions`

use clap::{Args, CommandFactory};
use clap_complete::Shell;

use crate::cli::Cli;
use crate::failure::Failure;
use crate::output;

/// Arguments of `completions`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern completions bash > ~/.local/share/bash-completion/completions/lantern
  lantern completions fish > ~/.config/fish/completions/lantern.fish")]
pub(crate) struct CompletionsArgs {
    /// The shell
    shell: Shell,
}

pub(crate) fn run(args: &CompletionsArgs) -> Result<(), Failure> {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "lantern", &mut script);
    output::print(&String::from_utf8_lossy(&script))
}
