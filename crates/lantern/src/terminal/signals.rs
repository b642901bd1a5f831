//! Signals that end or stop the process while a question is on the terminal: the terminal is put back first, and then they do what they do.

use std::io::{PipeReader, Read, pipe};
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

use rustix::process::{Signal, kill_current_process_group};
use signal_hook::SigId;
use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP};
use signal_hook::low_level::{self, emulate_default_handler, unregister};

/// Those that end a process unless it wants otherwise.
const ENDING: [i32; 4] = [SIGTERM, SIGHUP, SIGINT, SIGQUIT];

/// What is to become of each of [`ENDING`].
struct Fates {
    /// Somebody else acts on it: a session's loop, an operation that can be interrupted.
    is_watched: [AtomicBool; ENDING.len()],
    /// No question is on the terminal, and nobody else acts on it: it ends the process, as if it had never been taken.
    ends: [Arc<AtomicBool>; ENDING.len()],
    /// No question is on the terminal: the signal that stops a process does so.
    stops: Arc<AtomicBool>,
}

/// Whether somebody would notice that we stopped, and could let us go on: a parent with job control. Where there is none, the system does not let
/// the signal stop anything either (POSIX.1 §2.4.3, orphaned process groups).
fn can_stop() -> bool {
    let parent_of = |own: &Kinship| kinship(&own.parent.to_string());
    kinship("self").is_some_and(|own| {
        parent_of(&own).is_some_and(|parent| parent.session == own.session && parent.group != own.group)
    })
}

/// Where a process belongs, by the numbers of processes.
struct Kinship {
    parent: i32,
    group: i32,
    session: i32,
}

/// Read from the system's files (proc_pid_stat(5)): asked for by a call, the group of a parent outside our container is a zero that not every
/// library expects.
fn kinship(process: &str) -> Option<Kinship> {
    let text = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The name in parentheses may hold anything; behind it stand the state and these.
    let mut fields =
        text.rsplit(')').next()?.split_whitespace().skip(1).map_while(|field| field.parse().ok());
    Some(Kinship { parent: fields.next()?, group: fields.next()?, session: fields.next()? })
}

/// Stops everything that the terminal's stop key would stop, for a terminal whose keys are all ours at the time.
pub(crate) fn stop_by_key() {
    if can_stop() {
        let _ = kill_current_process_group(Signal::TSTP);
    }
}

static FATES: OnceLock<Fates> = OnceLock::new();

fn fates() -> &'static Fates {
    FATES.get_or_init(|| {
        let does_so = |_| Arc::new(AtomicBool::new(true));
        let fates = Fates {
            is_watched: Default::default(),
            ends: std::array::from_fn(does_so),
            stops: Arc::new(AtomicBool::new(can_stop())),
        };
        let _ = signal_hook::flag::register_conditional_default(SIGTSTP, fates.stops.clone());
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
        self.stops.store(can_stop(), Ordering::SeqCst);
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

/// What a signal wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// The end of the process.
    End,
    /// That it stops until it is continued.
    Stop,
    /// Nothing that could be done.
    Nothing,
}

/// Signals are held as long as this is there.
pub(crate) struct Held {
    came: [Arc<AtomicBool>; ENDING.len()],
    /// That to stop came.
    stop: Arc<AtomicBool>,
    /// Has something to read when one came.
    pub(crate) wakes: PipeReader,
    ids: Vec<SigId>,
}

impl Held {
    /// Holds them; none where the system does not let us.
    pub(crate) fn begin() -> Option<Self> {
        let (wakes, writer) = pipe().ok()?;
        let fates = fates();
        let mut held = Self { came: Default::default(), stop: Arc::default(), wakes, ids: Vec::new() };
        fates.stops.store(false, Ordering::SeqCst);
        held.ids.push(signal_hook::flag::register(SIGTSTP, held.stop.clone()).ok()?);
        held.ids.push(low_level::pipe::register(SIGTSTP, OwnedFd::from(writer.try_clone().ok()?)).ok()?);
        for ((signal, came), ends) in ENDING.into_iter().zip(&held.came).zip(&fates.ends) {
            ends.store(false, Ordering::SeqCst);
            held.ids.push(signal_hook::flag::register(signal, came.clone()).ok()?);
            let writer: OwnedFd = writer.try_clone().ok()?.into();
            held.ids.push(low_level::pipe::register(signal, writer).ok()?);
        }
        Some(held)
    }

    /// What the signal wants by which a wait was ended.
    pub(crate) fn wanted(&mut self) -> Wanted {
        if self.came.iter().any(|came| came.load(Ordering::SeqCst)) {
            return Wanted::End;
        }
        // There is something to read: that is how we were woken.
        let _ = self.wakes.read(&mut [0; 16]);
        match self.stop.swap(false, Ordering::SeqCst) && can_stop() {
            true => Wanted::Stop,
            false => Wanted::Nothing,
        }
    }

    /// Stops the process until it is to go on. The terminal must have been put back.
    pub(crate) fn stop(&self) {
        let _ = emulate_default_handler(SIGTSTP);
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
