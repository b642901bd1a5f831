//! A stop on purpose, for tests: the program ends, as if it were killed, at its Nth write of a file. Only in builds
//! with debug assertions.

use std::sync::atomic::{AtomicU32, Ordering};

/// Exit status of a stop on purpose.
pub const STOPPED: i32 = 99;

static LEFT: AtomicU32 = AtomicU32::new(0);

/// Makes the process end at its `write`th write from now, counted from one; before the write, after the temporary file, and
/// after the rename count as three.
pub fn stop_at(write: u32) {
    LEFT.store(write, Ordering::SeqCst);
}

/// One moment at which a kill could come.
pub(crate) fn point() {
    if cfg!(debug_assertions)
        && LEFT.try_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1)) == Ok(1)
    {
        std::process::exit(STOPPED);
    }
}
