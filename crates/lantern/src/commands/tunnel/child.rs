//! A command that runs here while tunnels are up.

use std::ffi::OsString;
use std::os::unix::process::ExitStatusExt;

use lantern_operations::tunnel::{LinkStatus, variable_name};
use rustix::process::{Pid, Signal, kill_process};
use tokio::process::Command;
use tokio::signal::unix::SignalKind;

use crate::commands::watch;
use crate::screen::failure::{Failure, code};

/// Runs it to its end, with the places of tunnels in its environment; its exit status. What the terminal's keys send, it gets by itself; what we are
/// told to end by is passed on.
///
/// # Errors
/// A program that cannot be started.
pub(super) async fn run(words: &[OsString], status: &LinkStatus) -> Result<u8, Failure> {
    let (Some(program), arguments) = (words.first(), words.get(1..).unwrap_or_default()) else {
        return Err(Failure::new(code::USAGE, "a command is wanted behind --"));
    };
    let mut command = Command::new(program);
    command.args(arguments);
    for tunnel in &status.tunnels {
        if let Some(at) = &tunnel.at {
            command.env(variable_name(&tunnel.name), at.strip_prefix("unix:").unwrap_or(at));
        }
    }
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut quits = watch(SignalKind::quit())?;
    let mut terminations = watch(SignalKind::terminate())?;
    let mut hangups = watch(SignalKind::hangup())?;
    let name = program.to_string_lossy().into_owned();
    let mut child =
        command.spawn().map_err(|error| Failure::new(code::LOCAL, format!("cannot run {name}: {error}")))?;
    let pid = child.id().and_then(|pid| i32::try_from(pid).ok()).and_then(Pid::from_raw);
    let pass_on = |signal| {
        if let Some(pid) = pid {
            let _ = kill_process(pid, signal);
        }
    };
    loop {
        tokio::select! {
            ended = child.wait() => {
                let ended = ended
                    .map_err(|error| Failure::new(code::INTERNAL, format!("cannot wait for {name}: {error}")))?;
                let by_signal = || ended.signal().and_then(|signal| u8::try_from(128 + signal).ok());
                let status = ended.code().and_then(|status| u8::try_from(status).ok());
                return Ok(status.or_else(by_signal).unwrap_or(255));
            }
            _ = interrupts.recv() => {}
            _ = quits.recv() => {}
            _ = terminations.recv() => pass_on(Signal::TERM),
            _ = hangups.recv() => pass_on(Signal::HUP),
        }
    }
}
