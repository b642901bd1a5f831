//! What is to run.

use lantern_link::CommandWords;

use super::Script;

/// What is to run on each machine.
#[derive(Debug, Clone)]
pub enum Work {
    /// A command.
    Command(CommandWords),
    /// A script, which is sent as input and left nowhere.
    Script(Script),
}
