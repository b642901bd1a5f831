//! Raw mode for a session: every key goes to the machine. Put back on every way out.

use std::io::{Stdin, stdin};
use std::sync::Mutex;

use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};

use crate::failure::{Failure, code};

/// The modes to put back, as long as raw mode is on: reachable from a panic.
static SAVED: Mutex<Option<Termios>> = Mutex::new(None);

/// Raw mode of standard input; ends when dropped.
#[derive(Debug)]
pub(crate) struct RawMode {
    input: Stdin,
}

impl RawMode {
    /// Switches raw mode on.
    ///
    /// # Errors
    /// When standard input is no terminal.
    pub(crate) fn enter() -> Result<Self, Failure> {
        let input = stdin();
        let failed =
            |error| Failure::new(code::LOCAL, format!("cannot switch the terminal to raw mode: {error}"));
        let saved = tcgetattr(&input).map_err(failed)?;
        let mut raw = saved.clone();
        raw.make_raw();
        if let Ok(mut slot) = SAVED.lock() {
            *slot = Some(saved);
        }
        tcsetattr(&input, OptionalActions::Drain, &raw).map_err(failed)?;
        Ok(Self { input })
    }
}

impl Drop for RawMode {
    fn drop(&mut self) {
        restore(&self.input);
    }
}

fn restore(input: &Stdin) {
    if let Some(saved) = SAVED.lock().ok().and_then(|mut slot| slot.take()) {
        let _ = tcsetattr(input, OptionalActions::Drain, &saved);
    }
}

/// Puts the terminal back before a panic's message is printed.
pub(crate) fn restore_on_panic() {
    let print = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        restore(&stdin());
        print(info);
    }));
}
