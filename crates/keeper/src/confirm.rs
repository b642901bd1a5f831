//! Asking a person from a process without a terminal: a program of the user's choice shows the question, or the terminal does that was last used.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use lantern_ssh::agent::SignTask;
use tokio::process::Command;
use tokio::task::spawn_blocking;
use tokio::time::timeout;

use crate::terminal;

/// Longest wait for a person, after which the answer is no.
const ANSWER_TIME: Duration = Duration::from_secs(60);

/// The question, on one line: it must not pass for another one, or for the rest of this one.
fn question(task: &SignTask) -> String {
    let comment = lantern_ssh::neutralize_line(&task.comment, 200);
    format!("Allow one use of the key {comment} ({} {})?", task.key.describe(), task.key.fingerprint())
}

/// Whether the person said yes: the program is called with the question as its one argument, and says yes with exit
/// status 0.
pub(crate) async fn by_program(program: &Path, task: &SignTask) -> bool {
    let child = Command::new(program)
        .arg(question(task))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .status();
    matches!(timeout(ANSWER_TIME, child).await, Ok(Ok(status)) if status.success())
}

/// Tells the thread that asks that nobody needs the answer, when whoever waits for it is dropped.
struct GivenUp(Arc<AtomicBool>);

impl Drop for GivenUp {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Whether the person at this terminal said yes, before whoever wants it had `gone`. The terminal has its own modes again when this is over: the next
/// question may be on it, too.
pub(crate) async fn at_terminal(terminal: PathBuf, task: &SignTask, gone: impl Future<Output = ()>) -> bool {
    let given_up = GivenUp(Arc::new(AtomicBool::new(false)));
    let (question, flag) = (question(task), given_up.0.clone());
    let mut asked = spawn_blocking(move || terminal::ask(&terminal, &question, &flag, ANSWER_TIME));
    tokio::select! {
        yes = &mut asked => yes.unwrap_or(false),
        () = gone => {
            drop(given_up);
            let _ = asked.await;
            false
        }
    }
}
