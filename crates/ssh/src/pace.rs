//! How far ahead of the line packets are made: far where it takes them at once, hardly where it does not.

use crate::limits::{MAX_FILL, MIN_FILL};

/// What is made into packets cannot be overtaken any more, so on a slow line little is; on a fast one, a lot at a time
/// costs fewer turns.
#[derive(Debug)]
pub(crate) struct Pace {
    target: usize,
    /// Bytes that the line took since it last refused any, or had nothing to take.
    run: usize,
}

impl Default for Pace {
    fn default() -> Self {
        Self { target: MIN_FILL, run: 0 }
    }
}

impl Pace {
    /// Bytes that may be pending.
    pub(crate) fn target(&self) -> usize {
        self.target
    }

    /// The line took `len` bytes, and `left` of what was pending not yet.
    pub(crate) fn sent(&mut self, len: usize, left: usize) {
        self.run = self.run.saturating_add(len);
        if left > 0 {
            // It will take as much when it takes anything again: a part of that is enough to begin with.
            self.target = (self.run / 4).clamp(MIN_FILL, MAX_FILL);
            self.run = 0;
        } else if len >= self.target {
            self.target = (self.target * 2).min(MAX_FILL);
        } else {
            // A little that is sent now and then says nothing about the line.
            self.run = 0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A line with room for `room` bytes each time it takes any; what is pending at the worst, from the third time on.
    fn worst(room: usize) -> usize {
        let (mut pace, mut pending, mut worst) = (Pace::default(), 0, 0);
        for time in 0..40 {
            let mut left = room;
            loop {
                pending = pending.max(pace.target());
                if time > 2 {
                    worst = worst.max(pending);
                }
                let taken = pending.min(left);
                (pending, left) = (pending - taken, left - taken);
                pace.sent(taken, pending);
                if pending > 0 {
                    break;
                }
            }
        }
        worst
    }

    #[test]
    fn a_slow_line_finds_little_before_it_and_a_fast_one_a_lot() {
        assert!(worst(16 * 1024) <= 2 * MIN_FILL);
        assert_eq!(worst(8 * 1024 * 1024), MAX_FILL);
        let mut pace = Pace::default();
        for _ in 0..10_000 {
            pace.sent(100, 0);
        }
        assert_eq!(pace.target(), MIN_FILL, "ten thousand strokes are no bulk");
    }
}
