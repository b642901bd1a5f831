//! Tasks in a session of PowerShell: a text that is to run becomes a pipeline, what is given becomes objects, and an end becomes a status.

mod completions;
mod given;
mod location;
mod outcome;
mod plain_commands;
mod quietly;
mod task;
mod whole;

pub use completions::{Completions, completions};
pub use given::{Given, GivenError};
pub use location::location;
pub use outcome::{Outcome, has_formatter};
pub use plain_commands::{NotPlain, plain_commands};
pub use task::{BoundArgument, Shown, Task};
pub use whole::is_whole;
