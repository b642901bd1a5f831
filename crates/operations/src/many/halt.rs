//! Ending what is done on many machines before its end.

use std::sync::atomic::{AtomicBool, Ordering};

use tokio::sync::Notify;

/// How a run is ended before its end.
#[derive(Debug, Default)]
pub struct Halt {
    begins_no_more: AtomicBool,
    ends_all: AtomicBool,
    changed: Notify,
}

impl Halt {
    /// No more machines are begun.
    pub fn begin_no_more(&self) {
        self.begins_no_more.store(true, Ordering::Release);
    }

    /// What runs is ended, too.
    pub fn end_all(&self) {
        self.begin_no_more();
        self.ends_all.store(true, Ordering::Release);
        self.changed.notify_waiters();
    }

    /// Whether no more are begun.
    pub fn is_wanted(&self) -> bool {
        self.begins_no_more.load(Ordering::Acquire)
    }

    /// Carries something out, unless what runs is to end.
    pub async fn unless_ended<T>(&self, work: impl Future<Output = T>) -> Option<T> {
        tokio::select! {
            done = work => Some(done),
            () = self.ends() => None,
        }
    }

    /// Waits until what runs is to end.
    pub(crate) async fn ends(&self) {
        loop {
            let changed = self.changed.notified();
            if self.ends_all.load(Ordering::Acquire) {
                return;
            }
            changed.await;
        }
    }
}
