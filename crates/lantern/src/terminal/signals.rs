//! Signals that end the process while a question is on the terminal: the terminal is put back first, and then they do what they do.

use std::io::{PipeReader, pipe};
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

use signal_hook::SigId;
use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use signal_hook::low_level::{self, emulate_default_handler, unregister};

/// Those that end a process unless it wants otherwise.
const ENDING: [i32; 4] = [SIGTERM, SIGHUP, SIGINT, SIGQUIT];

/// What is to become of each of [`ENDING`].
struct Fates {
    /// Somebody else acts on it: a session's loop, an operation that can be interrupted.
    is_watched: [AtomicBool; ENDING.len()],
    /// No question is on the terminal, and nobody else acts on it: it ends the process, as if it had never been taken.
    ends: [Arc<AtomicBool>; ENDING.len()],
}

static FATES: OnceLock<Fates> = OnceLock::new();

fn fates() -> &'static Fates {
    FATES.get_or_init(|| {
        let fates = Fates { is_watched: Default::default(), ends: Default::default() };
        for (signal, ends) in ENDING.into_iter().zip(&fates.ends) {
            // Once taken, a signal does nothing by itself any more.
            let _ = signal_hook::flag::register_conditional_default(signal, ends.clone());
        }
        fates
    })
}

impl Fates {
    /// What they do while no question is asked.
    fn settle(&self) {
        for (ends, is_watched) in self.ends.iter().zip(&self.is_watched) {
            ends.store(!is_watched.load(Ordering::SeqCst), Ordering::SeqCst);
        }
    }
}

/// From now on somebody else acts on this signal.
pub(crate) fn leave_to_others(signal: i32) {
    if let Some(at) = ENDING.iter().position(|ending| *ending == signal) {
        let fates = fates();
        fates.is_watched.iter().skip(at).take(1).for_each(|flag| flag.store(true, Ordering::SeqCst));
        fates.ends.iter().skip(at).take(1).for_each(|flag| flag.store(false, Ordering::SeqCst));
    }
}

/// Signals are held as long as this is there.
pub(crate) struct Held {
    came: [Arc<AtomicBool>; ENDING.len()],
    /// Has something to read when one came.
    pub(crate) wakes: PipeReader,
    ids: Vec<SigId>,
}

impl Held {
    /// Holds them; none where the system does not let us.
    pub(crate) fn begin() -> Option<Self> {
        let (wakes, writer) = pipe().ok()?;
        let fates = fates();
        let mut held = Self { came: Default::default(), wakes, ids: Vec::new() };
        for ((signal, came), ends) in ENDING.into_iter().zip(&held.came).zip(&fates.ends) {
            ends.store(false, Ordering::SeqCst);
            held.ids.push(signal_hook::flag::register(signal, came.clone()).ok()?);
            let writer: OwnedFd = writer.try_clone().ok()?.into();
            held.ids.push(low_level::pipe::register(signal, writer).ok()?);
        }
        Some(held)
    }

    /// Has those that came do what they do. The terminal must have been put back.
    pub(crate) fn let_go(self) {
        let came: Vec<i32> = ENDING
            .into_iter()
            .zip(&self.came)
            .filter(|(_, came)| came.load(Ordering::SeqCst))
            .map(|(s, _)| s)
            .collect();
        drop(self);
        for signal in came {
            let at = ENDING.iter().position(|ending| *ending == signal).unwrap_or_default();
            if fates().ends.get(at).is_some_and(|ends| ends.load(Ordering::SeqCst)) {
                let _ = emulate_default_handler(signal);
            }
        }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        for id in self.ids.drain(..) {
            unregister(id);
        }
        fates().settle();
    }
}
