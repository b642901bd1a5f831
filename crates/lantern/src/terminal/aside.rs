//! Asking at the terminal while the rest goes on: on a thread of its own, and given up when nobody needs the answer any more.

use std::io::{PipeWriter, pipe};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use tokio::task::spawn_blocking;

use crate::screen::fit::Fit;
use crate::terminal::prompt::Terminal;

/// Longest wait for a question that was given up to put the terminal's modes back.
const TIDY_TIME: Duration = Duration::from_secs(1);

/// Asks at the terminal; nothing, where there is none. When this is dropped, the question ends.
pub(crate) async fn aside<T: Send + 'static>(
    conversation: impl FnOnce(Terminal) -> T + Send + 'static,
) -> Option<T> {
    let (given_up, guard) = match pipe() {
        Ok((given_up, writer)) => (Some(given_up), Some(writer)),
        Err(_) => (None, None),
    };
    let (over, is_over) = channel();
    let guard = Guard { writer: guard, is_over };
    let answer = spawn_blocking(move || {
        let answer = Terminal::open().map(|mut terminal| {
            given_up.into_iter().for_each(|given_up| terminal.end_with(given_up));
            conversation(terminal)
        });
        let _ = over.send(());
        answer
    });
    let answer = answer.await.ok().flatten();
    drop(guard);
    answer
}

/// Ends a question when it is dropped before the answer, and waits until the terminal is as it was.
struct Guard {
    writer: Option<PipeWriter>,
    is_over: Receiver<()>,
}

impl Drop for Guard {
    fn drop(&mut self) {
        drop(self.writer.take());
        let _ = self.is_over.recv_timeout(TIDY_TIME);
    }
}

/// A line of a machine's, marked as its: it must not pass for one of ours.
pub(crate) fn theirs(machine: &str, line: &str) -> String {
    format!("[{machine}] {}", Fit::line(line))
}
