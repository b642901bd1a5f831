//! Asking a person from a process without a terminal: a program of the user's choice shows the question.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use lantern_ssh::agent::SignTask;
use tokio::process::Command;
use tokio::time::timeout;

/// Longest wait for a person, after which the answer is no.
const ANSWER_TIME: Duration = Duration::from_secs(60);

/// Whether the person said yes: the program is called with the question as its one argument, and says yes with exit
/// status 0.
pub(crate) async fn confirm(program: &Path, task: &SignTask) -> bool {
    // On one line: it must not pass for another question, or the rest of this one.
    let comment = lantern_ssh::neutralize_line(&task.comment, 200);
    let question =
        format!("Allow one use of the key {comment} ({} {})?", task.key.describe(), task.key.fingerprint());
    let child = Command::new(program)
        .arg(question)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .status();
    matches!(timeout(ANSWER_TIME, child).await, Ok(Ok(status)) if status.success())
}
