//! What became of one machine of many.

use std::time::Duration;

use lantern_link::LinkError;

use super::kept::Kept;
use crate::OperationError;

/// How a machine ended.
#[derive(Debug)]
pub enum Ending {
    /// What ran ended with this status.
    Status(u32),
    /// A signal ended it, by this name.
    Signal(String),
    /// It was not reached.
    NotReached(OperationError),
    /// It was reached, and what was to run did not start, or was lost.
    Lost(LinkError),
    /// We ended it.
    Halted,
}

impl Ending {
    /// Whether it did what was asked, with success.
    pub fn is_good(&self) -> bool {
        matches!(self, Self::Status(0))
    }

    /// Whether it was reached.
    pub fn was_reached(&self) -> bool {
        !matches!(self, Self::NotReached(_))
    }
}

/// What became of a machine.
#[derive(Debug)]
pub struct Ended {
    /// How it ended.
    pub ending: Ending,
    /// Its standard output.
    pub out: Kept,
    /// Its standard error.
    pub err: Kept,
    /// How long it took, from the first step.
    pub took: Duration,
}
