//! Options of commands that can forward the agent and the display.

use clap::{Args, ValueEnum};
use lantern_operations::display::DisplayTrust;

/// How far the machine's programs are trusted at the display.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum DisplayKind {
    /// They draw, and see nothing of your other windows and of what you type there
    Restricted,
    /// The same, for one program
    Single,
    /// They see and do whatever your own programs can
    Trusted,
}

impl From<DisplayKind> for DisplayTrust {
    fn from(kind: DisplayKind) -> Self {
        match kind {
            DisplayKind::Restricted => Self::Restricted,
            DisplayKind::Single => Self::Single,
            DisplayKind::Trusted => Self::Trusted,
        }
    }
}

/// Options of commands that can forward the agent and the display.
#[derive(Debug, Args)]
#[command(next_help_heading = crate::cli::connect::HEADING)]
pub(crate) struct ForwardArgs {
    /// Let the machine ask for signatures while this lasts; each one wants your yes
    #[arg(long)]
    pub(crate) forward_agent: bool,
    /// Don't, whatever the book says
    #[arg(long, conflicts_with = "forward_agent")]
    pub(crate) no_forward_agent: bool,
    /// Let the machine have every signature it asks for: whoever rules it can log in as you elsewhere
    #[arg(long, conflicts_with = "no_forward_agent")]
    pub(crate) forward_agent_unasked: bool,
    /// Let the machine's programs draw on the display here, kept from your other windows unless trusted
    #[arg(long, value_name = "KIND", num_args = 0..=1, require_equals = true, default_missing_value = "restricted")]
    pub(crate) display: Option<DisplayKind>,
    /// Don't, whatever the book says
    #[arg(long, conflicts_with = "display")]
    pub(crate) no_display: bool,
}

impl ForwardArgs {
    /// Whether anything is to be forwarded.
    pub(crate) fn wants_any(&self) -> bool {
        self.forward_agent || self.forward_agent_unasked || self.display.is_some()
    }

    /// Takes the kind of display from the word behind `--display`, where it was typed without the sign between; whether it was one.
    pub(crate) fn take_kind(&mut self, word: &std::ffi::OsStr) -> bool {
        let kind = word.to_str().and_then(|word| DisplayKind::from_str(word, false).ok());
        match (self.display, kind) {
            (Some(DisplayKind::Restricted), Some(kind)) => {
                self.display = Some(kind);
                true
            }
            _ => false,
        }
    }
}
