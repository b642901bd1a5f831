//! The programs that draw here now, as numbers.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use lantern_link::Meter;
use tokio::sync::Notify;

use super::DisplayTrust;

/// What a session's programs do at the display.
#[derive(Debug)]
pub struct Windows {
    /// The display's name.
    pub display: String,
    /// How far they are trusted.
    pub trust: DisplayTrust,
    /// Bytes both ways.
    pub(super) passed: Meter,
    open: AtomicUsize,
    total: AtomicUsize,
    changed: Notify,
    failed: Mutex<Option<String>>,
}

/// One that is open, until it is dropped.
pub(super) struct OpenWindow(Arc<Windows>);

impl Windows {
    pub(super) fn new(display: String, trust: DisplayTrust) -> Arc<Self> {
        Arc::new(Self {
            display,
            trust,
            passed: Meter::default(),
            open: AtomicUsize::new(0),
            total: AtomicUsize::new(0),
            changed: Notify::new(),
            failed: Mutex::new(None),
        })
    }

    pub(super) fn open(self: &Arc<Self>) -> OpenWindow {
        self.open.fetch_add(1, Ordering::SeqCst);
        self.total.fetch_add(1, Ordering::SeqCst);
        OpenWindow(self.clone())
    }

    pub(super) fn fail(&self, why: String) {
        *self.failed.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
    }

    /// How many programs have a connection to the display.
    pub fn count(&self) -> usize {
        self.open.load(Ordering::SeqCst)
    }

    /// How many have had one.
    pub fn total(&self) -> usize {
        self.total.load(Ordering::SeqCst)
    }

    /// Why the last one that could not draw could not.
    pub fn last_failure(&self) -> Option<String> {
        self.failed.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Waits until none has.
    pub async fn all_closed(&self) {
        loop {
            let changed = self.changed.notified();
            tokio::pin!(changed);
            changed.as_mut().enable();
            if self.count() == 0 {
                return;
            }
            changed.await;
        }
    }
}

impl Drop for OpenWindow {
    fn drop(&mut self) {
        self.0.open.fetch_sub(1, Ordering::SeqCst);
        self.0.changed.notify_waiters();
    }
}
