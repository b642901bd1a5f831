//! What `run` and `shell` have in common: variables, questions, what is said at the end, and the exit status.

use std::time::Duration;

use lantern_link::{ProcessEnd, Remote, RemoteSession, Trunk};
use lantern_operations::SessionSettings;
use lantern_operations::display::Windows;
use lantern_ssh::signals;
use tokio::signal::unix::SignalKind;
use tokio::sync::mpsc;

use super::watch;
use crate::screen;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::session_ask::Asked;

/// The variables that the book has for the machine; a server takes those that it is set up to take.
pub(super) fn environment(book: &SessionSettings) -> Vec<(String, String)> {
    book.environment.iter().map(|(name, value)| (name.clone(), value.clone())).collect()
}

/// Tells what the machine's announcement of its host keys has changed.
pub(super) fn tell_rotations(remote: &Remote) {
    for rotation in remote.take_rotations() {
        let news = rotation
            .added
            .iter()
            .map(|key| (key, "announced another host key and proved it", "it is trusted too"));
        let old =
            rotation.dropped.iter().map(|key| (key, "has this host key no more", "it is trusted no more"));
        for (key, what, then) in news.chain(old) {
            let (machine, kind) = (remote.machine(), key.describe());
            output::say(format!("note: {machine} {what}: {kind} {}; {then}.", key.fingerprint()));
        }
    }
}

/// The exit status for the way a session ended; none when it ended without a word.
///
/// # Errors
/// The connection was lost.
pub(super) fn exit_status(end: ProcessEnd, machine: &str) -> Result<Option<u8>, Failure> {
    match end {
        ProcessEnd::Exited(status) => {
            Ok(Some(u8::try_from(status).unwrap_or_else(|_| wide(status, machine))))
        }
        ProcessEnd::Signaled { name, core_dumped, message } => {
            let dumped = if core_dumped { ", memory dumped" } else { "" };
            let words = if message.is_empty() { String::new() } else { format!(": {message}") };
            output::say(format!(
                "on {machine}, it was ended by SIG{}{dumped}{words}",
                lantern_ssh::neutralize(&name, 32)
            ));
            Ok(Some(signals::number(&name).map_or(code::SIGNAL, |number| 128 + number)))
        }
        ProcessEnd::Closed => Ok(None),
        ProcessEnd::Failed(error) => Err(error.into()),
    }
}

/// A code that is wider than an exit status is told in full, and becomes its low byte, which must not look like success.
pub(super) fn wide(status: u32, machine: &str) -> u8 {
    let [low, ..] = status.to_le_bytes();
    let passed_on = low.max(1);
    output::say(format!(
        "on {machine}, it ended with {status} (0x{status:08X}); the exit status here is {passed_on}"
    ));
    passed_on
}

/// Waits for something that the machine is asked beside what somebody typed. Ctrl-C stops that, and a second one ends the session.
///
/// # Errors
/// Twice Ctrl-C, or we are told to end.
pub(super) async fn patiently<T>(
    session: &RemoteSession,
    asked: impl Future<Output = T>,
) -> Result<T, Failure> {
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut terminations = watch(SignalKind::terminate())?;
    let mut hangups = watch(SignalKind::hangup())?;
    let mut asked = std::pin::pin!(asked);
    let mut is_stopped = false;
    loop {
        tokio::select! {
            answer = &mut asked => return Ok(answer),
            _ = interrupts.recv() => match std::mem::replace(&mut is_stopped, true) {
                false => session.stop(),
                true => return Err(Failure::new(code::INTERRUPTED, "interrupted")),
            },
            _ = terminations.recv() => return Err(Failure::quiet(128 + 15)),
            _ = hangups.recv() => return Err(Failure::quiet(128 + 1)),
        }
    }
}

/// The next question of a session; never, where none can come.
pub(super) async fn next_question(questions: &mut Option<mpsc::Receiver<Asked>>) -> Asked {
    let next = match questions {
        Some(questions) => questions.recv().await,
        None => None,
    };
    match next {
        Some(asked) => asked,
        None => std::future::pending().await,
    }
}

/// How a session stands, in lines.
pub(super) fn state(remote: &Remote, lasted: Duration, windows: Option<&Windows>) -> String {
    let Some(account) = remote.trunk().map(Trunk::account) else { return String::new() };
    let identity = remote.identity();
    let statistics = account.statistics;
    let algorithms = match account.algorithms {
        Some(chosen) => format!(
            "{}{}, host key {}, {} to it, {} from it{}",
            chosen.kex.name(),
            if chosen.kex.is_quantum_safe() { " (quantum-safe)" } else { "" },
            chosen.host_key.name(),
            chosen.client_to_server.cipher.name(),
            chosen.server_to_client.cipher.name(),
            if account.is_strict { ", strict" } else { "" },
        ),
        None => "none yet".into(),
    };
    let line = if account.is_joined {
        "shares the connection that the keeper holds; its round trip: lantern keeper status".to_owned()
    } else {
        let round_trip = statistics.round_trip.map_or("unknown".into(), screen::tunnel::words::milliseconds);
        let silent = account.idle.as_secs();
        format!("key exchanges: {}, round trip {round_trip}, silent for {silent} s", statistics.key_exchanges)
    };
    let display = windows.map(|windows| format!("\n{}", screen::display::state(windows))).unwrap_or_default();
    format!(
        "{} as {}, {} for {} s\n{algorithms}\n{} bytes sent, {} received\n{line}{display}",
        identity.machine,
        identity.user,
        lantern_ssh::neutralize_line(&identity.service, 255),
        lasted.as_secs(),
        statistics.bytes_sent,
        statistics.bytes_received,
    )
}
