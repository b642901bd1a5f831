//! Numbers of messages: a machine gives one after the other, whoever they are for, so that one that is missing shows (MS-PSRP 2.2.4).

use std::collections::BTreeSet;

/// Most numbers that are kept behind one that has not come: what comes for the pool and for pipelines is read at different times, and no further apart.
const MOST: usize = 4096;

/// Which numbers have come.
#[derive(Debug, Default)]
pub(super) struct Numbering {
    /// All up to this one have.
    through: u64,
    /// And these.
    ahead: BTreeSet<u64>,
    /// Whether nobody knows where it begins.
    is_new: bool,
}

impl Numbering {
    /// Of somebody who comes to a machine that has counted before: the first that comes is the first.
    pub(super) fn of_joiner() -> Self {
        Self { is_new: true, ..Self::default() }
    }

    /// Notes that a message has come.
    pub(super) fn note(&mut self, number: u64) {
        if std::mem::take(&mut self.is_new) {
            self.through = number.saturating_sub(1);
        }
        if number > self.through {
            self.ahead.insert(number);
        }
        while self.ahead.first() == Some(&(self.through.saturating_add(1))) {
            self.through = self.ahead.pop_first().unwrap_or(self.through);
        }
        if self.ahead.len() > MOST {
            // It counts in another way.
            self.settle();
        }
    }

    /// Whether one is missing before one that has come.
    pub(super) fn has_gap(&self) -> bool {
        !self.ahead.is_empty()
    }

    /// What is missing will not come.
    pub(super) fn settle(&mut self) {
        self.through = self.ahead.last().copied().unwrap_or(self.through);
        self.ahead.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_gap_is_there_until_it_is_filled(order in Just((1u64..60).collect::<Vec<_>>()).prop_shuffle(), left_out in 1u64..60) {
            let mut numbering = Numbering::default();
            for number in order.iter().filter(|number| **number != left_out) {
                numbering.note(*number);
            }
            prop_assert_eq!(numbering.has_gap(), left_out != 59);
            numbering.note(left_out);
            prop_assert!(!numbering.has_gap());
            numbering.note(u64::MAX);
            prop_assert!(numbering.has_gap());
            numbering.settle();
            prop_assert!(!numbering.has_gap());
            for number in 100..100 + 2 * MOST as u64 {
                numbering.note(number * 2);
            }
            prop_assert!(numbering.ahead.len() <= MOST);
        }
    }
}
