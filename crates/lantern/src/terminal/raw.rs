//! Raw mode for a session: every key goes to the machine. Put back on every way out.

use std::io::{Stdin, stdin};
use std::sync::Mutex;

use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};

use crate::screen::failure::{Failure, code};

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
        // What a terminal answers late to a question of the machine's is not for the shell here.
        let _ = tcsetattr(input, OptionalActions::Flush, &saved);
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

#[cfg(test)]
mod tests {
    use std::time::{Duration, Instant};

    use rustix::termios::LocalModes;

    use super::*;

    const CHILD: &str = "terminal::raw::tests::panics_in_raw_mode";

    /// Not a test by itself: what [`a_panic_puts_the_terminal_back`] runs under a pseudo-terminal.
    #[test]
    #[ignore = "run by another test, under a pseudo-terminal"]
    fn panics_in_raw_mode() {
        restore_on_panic();
        // Forgotten, so that only the hook can put the terminal back.
        std::mem::forget(RawMode::enter().unwrap());
        // Whoever watches has seen it.
        std::io::Read::read_exact(&mut std::io::stdin(), &mut [0]).unwrap();
        panic!("on purpose");
    }

    #[test]
    fn a_panic_puts_the_terminal_back() {
        let (pty, pts) = pty_process::blocking::open().unwrap();
        let is_raw = || !tcgetattr(&pty).unwrap().local_modes.contains(LocalModes::ICANON);
        let mut child = pty_process::blocking::Command::new(std::env::current_exe().unwrap())
            .args([CHILD, "--exact", "--ignored", "--nocapture"])
            .spawn(pts)
            .unwrap();
        let start = Instant::now();
        while !is_raw() {
            assert!(start.elapsed() < Duration::from_secs(30), "the child never entered raw mode");
            std::thread::sleep(Duration::from_millis(5));
        }
        std::io::Write::write_all(&mut &pty, b"k").unwrap();
        while is_raw() {
            assert!(start.elapsed() < Duration::from_secs(30), "raw mode was left on");
            std::thread::sleep(Duration::from_millis(5));
        }
        assert!(!child.wait().unwrap().success());
    }
}
