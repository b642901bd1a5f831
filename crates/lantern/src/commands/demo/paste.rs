//! The console's side of preparing a machine: the script is pasted there, and its line carried back.

use std::process::Stdio;

use tokio::io::AsyncWriteExt;
use tokio::process::Command;

use super::{Stage, tell};
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::output;

fn broken(why: impl std::fmt::Display) -> Failure {
    Failure::new(code::INTERNAL, format!("the demo cannot prepare a machine: {why}"))
}

impl Stage<'_> {
    /// Prints the script, has the machine's console run it, and gives the line to the command that takes it.
    pub(super) async fn paste(
        &self,
        machine: &str,
        prepare: &[String],
        carry: &[String],
    ) -> Result<(), Failure> {
        output::print(&fit!("\n% lantern {} > {machine}.sh\n", prepare.join(" ")))?;
        let script = self.piped(prepare, "", Stdio::piped()).await?;
        let lines = script.lines().count();
        tell(&format!("{lines} lines, to be read. Pasted on the console of {machine}, they say:"))?;
        let bare = self.bare.ok_or_else(|| broken("no machine is lit for it"))?;
        let said = bare.paste(&script);
        output::print(&fit!("{}", Fit::lines(&said)))?;
        tell("The line is carried back; white space in it does not matter, and any other change does:")?;
        output::print(&fit!("\n% lantern {}\n", carry.join(" ")))?;
        self.piped(carry, &said, Stdio::inherit()).await.map(drop)
    }

    /// Runs a command that reads this; what it printed, where that is not to be seen.
    async fn piped(&self, words: &[String], input: &str, out: Stdio) -> Result<String, Failure> {
        let mut command = Command::new(self.lantern);
        command.args(words).env("LANTERN_HOME", self.home.path()).kill_on_drop(true);
        command.stdin(Stdio::piped()).stdout(out).stderr(super::stdout_again().map_err(broken)?);
        let mut child = command.spawn().map_err(broken)?;
        if let Some(mut stdin) = child.stdin.take() {
            stdin.write_all(input.as_bytes()).await.map_err(broken)?;
        }
        let done = child.wait_with_output().await.map_err(broken)?;
        match done.status.success() {
            true => String::from_utf8(done.stdout).map_err(broken),
            false => Err(broken(format!("`lantern {}` failed", words.join(" ")))),
        }
    }
}
