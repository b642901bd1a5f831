//! Whose turn it is to have a packet made of what it sends.

use std::collections::VecDeque;

use crate::limits::INTERACTIVE_BYTES;

/// How many packets of small senders go ahead of one of a bulk sender, at most: many of the former together must not
/// starve the latter.
const HEAD_START: u32 = 32;

/// Channels that have something to send, window to send it in, and no turn yet. Those with little to send go first: a
/// keystroke must not wait for a file. Within each kind they go round.
#[derive(Debug, Default)]
pub(crate) struct Schedule {
    small: VecDeque<u32>,
    bulk: VecDeque<u32>,
    /// Small ones since the last bulk one.
    ahead: u32,
}

impl Schedule {
    /// Puts a channel at the end of its line. A channel is in here once at most: the caller keeps a mark.
    pub(crate) fn push(&mut self, id: u32, waiting_bytes: usize) {
        match waiting_bytes <= INTERACTIVE_BYTES {
            true => self.small.push_back(id),
            false => self.bulk.push_back(id),
        }
    }

    /// Whose turn it is.
    pub(crate) fn pop(&mut self) -> Option<u32> {
        if self.ahead < HEAD_START
            && let Some(id) = self.small.pop_front()
        {
            self.ahead += 1;
            return Some(id);
        }
        self.ahead = 0;
        self.bulk.pop_front().or_else(|| self.small.pop_front())
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.small.is_empty() && self.bulk.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_ones_go_first_all_go_round_and_bulk_is_not_starved() {
        let mut schedule = Schedule::default();
        for id in [1, 2] {
            schedule.push(id, 1 << 20);
        }
        schedule.push(3, 1);
        assert_eq!(schedule.pop(), Some(3));
        assert_eq!((schedule.pop(), schedule.pop(), schedule.pop()), (Some(1), Some(2), None));

        // A thousand small senders that always have more, and one with a file.
        for id in 10..1010 {
            schedule.push(id, 1);
        }
        schedule.push(1, 1 << 20);
        let mut bulk_turns = 0;
        let mut turns = std::collections::HashMap::new();
        for _ in 0..33_000 {
            let id = schedule.pop().unwrap();
            *turns.entry(id).or_insert(0) += 1;
            bulk_turns += u32::from(id == 1);
            schedule.push(id, if id == 1 { 1 << 20 } else { 1 });
        }
        assert_eq!(bulk_turns, 1000);
        assert!((10..1010).all(|id| turns[&id] == 32));
    }
}
