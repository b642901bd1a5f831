//! How long a client waits for the server before login: for each answer, and for all of them together.

use std::time::{Duration, Instant};

use crate::limits::WHOLE_LOGIN_FACTOR;

/// A clock that runs while the server has to answer, and stands while a person has to.
#[derive(Debug)]
pub(crate) struct Patience {
    /// When the wait that goes on began.
    since: Option<Instant>,
    /// All waits that are over.
    spent: Duration,
}

impl Patience {
    pub(crate) fn new(now: Instant) -> Self {
        Self { since: Some(now), spent: Duration::ZERO }
    }

    /// The server has to answer something new.
    pub(crate) fn restart(&mut self, now: Instant) {
        self.pause(now);
        self.since = Some(now);
    }

    /// It is our turn.
    pub(crate) fn pause(&mut self, now: Instant) {
        if let Some(since) = self.since.take() {
            self.spent += now.saturating_duration_since(since);
        }
    }

    /// When it ends, where one answer may take `limit`: an answer that is late, or many that come just in time.
    pub(crate) fn deadline(&self, limit: Duration) -> Option<Instant> {
        let left = (limit * WHOLE_LOGIN_FACTOR).saturating_sub(self.spent);
        self.since?.checked_add(limit.min(left))
    }

    /// How long the server has been waited for, all in all.
    pub(crate) fn spent(&self, now: Instant) -> Duration {
        self.spent + self.since.map_or(Duration::ZERO, |since| now.saturating_duration_since(since))
    }
}
