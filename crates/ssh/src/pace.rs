//! How far ahead of the line packets are made: far where it takes them at once, hardly where it does not.

use crate::limits::{MAX_FILL, MIN_FILL};

/// What is made into packets cannot be overtaken any more, so on a slow line little is; on a fast one, a lot at a time
/// costs fewer turns.
#[derive(Debug)]
pub(crate) struct Pace {
    target: usize,
}

impl Default for Pace {
    fn default() -> Self {
        Self { target: MIN_FILL }
    }
}

impl Pace {
    /// Bytes that may be pending.
    pub(crate) fn target(&self) -> usize {
        self.target
    }

    /// Something was sent; `all` of it, or less than was pending.
    pub(crate) fn sent(&mut self, all: bool) {
        self.target = if all { (self.target * 2).min(MAX_FILL) } else { MIN_FILL };
    }
}
