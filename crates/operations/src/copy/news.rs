//! What is told while files are copied, and how a copy is stopped.

use std::sync::atomic::{AtomicBool, Ordering};

use tokio::sync::Notify;

use super::{CopyFault, Moved};

/// Why something was left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Left {
    /// It is there already, the same.
    Same,
    /// What is there was changed later.
    Newer,
    /// Something is there, and nothing that is there is to be touched.
    Existing,
    /// A pipe, a socket or a device.
    Special,
    /// A link that leads out of what is copied.
    LeadsOut,
    /// A link to a folder that it is in.
    Circle,
    /// A link that leads nowhere.
    Dangling,
    /// What is there is no file that it could replace.
    OtherKind,
}

/// What is told.
#[derive(Debug)]
pub enum News<'a> {
    /// So many files and folders have been found so far.
    Found(usize),
    /// A file begins; the number names it until its end.
    Begins {
        /// Its number.
        number: usize,
        /// Its path at the destination.
        path: &'a [u8],
        /// Its bytes.
        bytes: u64,
        /// How many of them are there from before.
        from: u64,
    },
    /// Bytes of it have been handed over.
    Bytes {
        /// Its number.
        number: usize,
        /// How many.
        bytes: u64,
    },
    /// It is compared.
    Verifies {
        /// Its number.
        number: usize,
    },
    /// It ended.
    Ended {
        /// Its number.
        number: usize,
        /// Its path at the destination.
        path: &'a [u8],
        /// How.
        outcome: Result<&'a Moved, &'a CopyFault>,
    },
    /// The machine's file service mixes up files that are open at the same time: from now on there is one at a time.
    OneAtATime {
        /// The machine.
        machine: &'a str,
    },
}

/// Who is told.
pub trait CopyWatch: Send + Sync {
    /// Something happened.
    fn news(&self, news: News<'_>);
}

/// Nobody.
impl CopyWatch for () {
    fn news(&self, _: News<'_>) {}
}

/// Whether a copy is to stop: what is under way is left as it can be gone on with, or taken away again.
#[derive(Debug, Default)]
pub struct Stop {
    is_wanted: AtomicBool,
    changed: Notify,
}

impl Stop {
    /// It is to stop.
    pub fn stop(&self) {
        self.is_wanted.store(true, Ordering::Release);
        self.changed.notify_waiters();
    }

    /// Whether it is.
    pub fn is_wanted(&self) -> bool {
        self.is_wanted.load(Ordering::Acquire)
    }

    /// Waits until it is.
    pub async fn wanted(&self) {
        loop {
            let changed = self.changed.notified();
            if self.is_wanted() {
                return;
            }
            changed.await;
        }
    }
}
