//! Arguments of `lantern completions`.

use clap::Args;
use clap_complete::Shell;

/// Arguments of `completions`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern completions bash > ~/.local/share/bash-completion/completions/lantern
  lantern completions fish > ~/.config/fish/completions/lantern.fish

The script asks lantern itself, so machines, tags, keys and fields of your book are completed.")]
pub(crate) struct CompletionsArgs {
    /// The shell
    pub(crate) shell: Shell,
}
