//! Round-trip times, from answers to questions that we asked anyway.

use std::time::{Duration, Instant};

/// Smallest and latest round-trip time.
#[derive(Debug, Default, Clone, Copy)]
pub(crate) struct RoundTrips {
    asked: Option<Instant>,
    smallest: Option<Duration>,
    latest: Option<Duration>,
}

impl RoundTrips {
    /// A question leaves; one is measured at a time.
    pub(crate) fn ask(&mut self, now: Instant) {
        self.asked.get_or_insert(now);
    }

    /// Its answer came.
    pub(crate) fn answer(&mut self, now: Instant) {
        if let Some(asked) = self.asked.take() {
            let sample = now.saturating_duration_since(asked);
            self.latest = Some(sample);
            self.smallest = Some(self.smallest.map_or(sample, |smallest| smallest.min(sample)));
        }
    }

    /// Nothing is measured by the question that is out.
    pub(crate) fn give_up(&mut self) {
        self.asked = None;
    }

    pub(crate) fn smallest(&self) -> Option<Duration> {
        self.smallest
    }

    pub(crate) fn latest(&self) -> Option<Duration> {
        self.latest
    }
}
