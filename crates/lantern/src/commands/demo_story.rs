//! What the demo shows: real commands of this very program, run as children in the throw-away home, and a sentence
//! about each.

use std::path::Path;
use std::process::Stdio;

use lantern_book::Home;
use lantern_harbour::Harbour;
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

use super::demo::KEY;
use crate::failure::{Failure, code};
use crate::output;

/// The walk.
pub(crate) struct Story<'a> {
    /// This program.
    pub(crate) lantern: &'a Path,
    /// The throw-away home.
    pub(crate) home: &'a Home,
}

impl Story<'_> {
    /// The beginning: a key.
    pub(crate) async fn open(&self) -> Result<(), Failure> {
        tell(
            "This is a walk through the job on eight simulated machines. Every line behind % is a real command.",
        );
        tell("1. Get a key. A key of your own would have a passphrase; this one is thrown away in a minute.");
        self.show(&["key", "new", KEY, "--plain", "--comment", "keeper@chart-room"], 0).await
    }

    /// The key without the talk.
    pub(crate) async fn make_key(&self) -> Result<(), Failure> {
        self.command(&["key", "new", KEY, "--plain", "--comment", "keeper@chart-room", "--quiet"])
            .stdout(Stdio::null())
            .status()
            .await
            .map(|_| ())
            .map_err(broken)
    }

    /// The middle: machines, first contact, commands.
    pub(crate) async fn walk(&self, harbour: &Harbour) -> Result<(), Failure> {
        tell(
            "2. The book. These machines are simulated, on loopback addresses, and know the key's public half.",
        );
        self.show(&["machine", "list"], 0).await?;

        tell("3. Meet a machine for the first time. Without anyone to compare its key, the answer is no:");
        self.show(&["run", "lamp-01", "--no-questions", "--", "whoami"], code::TRUST).await?;
        tell("With the fingerprint from the machine's console it is yes, once and for all:");
        let fingerprint = |name: &str| {
            let lit = harbour.machine(name).and_then(|lit| lit.spec.host_keys.first().cloned());
            lit.map(|key| key.public().fingerprint().to_string()).unwrap_or_default()
        };
        self.show(&["run", "lamp-01", "--expect", &fingerprint("lamp-01"), "--", "whoami"], 0).await?;

        tell("4. Run commands: output, errors and exit status are the remote ones.");
        self.show(&["run", "lamp-01", "--", "cat", "notice.txt"], 0).await?;
        self.show(&["run", "lamp-01", "--", "fail", "3"], 3).await?;

        tell("5. A machine that wants a password on top of the key; here it comes from a file descriptor.");
        let foghorn = fingerprint("foghorn");
        self.show_with_input(
            &["run", "foghorn", "--expect", &foghorn, "--password-fd", "0", "--no-input", "--", "uptime"],
            "low visibility\n",
        )
        .await?;

        tell("6. What a machine presents can be looked at without logging in, and trusted beforehand.");
        self.show(&["trust", "accept", "lamp-02", "--expect", &fingerprint("lamp-02")], 0).await?;
        self.show(&["trust", "scan", "lamp-01", "lamp-02", "chart-room"], code::TRUST).await?;

        tell(
            "7. Look after keys: put another one on a machine, with a login as proof, and see what is wrong with the ring.",
        );
        self.run_quietly(&["key", "new", "spare", "--plain", "--comment", "the spare one"]).await?;
        self.show(&["key", "install", "spare", "lamp-01"], 0).await?;
        self.show(&["key", "audit"], 1).await?;

        tell("8. Describe machines once: what a console hands out is understood, and profiles are shared.");
        let line = "ssh -p 2222 keeper@127.77.0.11";
        self.show(&["machine", "add", "lamp-again", "--paste", line, "--yes"], 0).await?;
        self.show(&["profile", "add", "careful", "trust=known-only", "connect-limit=3"], 0).await?;
        self.show(&["machine", "set", "@coast,lamp-again", "profiles+=careful", "--yes"], 0).await?;
        self.show(&["machine", "show", "lamp-again"], 0).await?;
        self.run_quietly(&["machine", "remove", "lamp-again"]).await?;

        tell(
            "9. Two machines have no address of their own here: one goes through the gateway, which is trusted first.",
        );
        for name in ["harbour-gate", "pier-lamp"] {
            self.run_quietly(&["trust", "accept", name, "--expect", &fingerprint(name)]).await?;
        }
        self.show(&["run", "pier-lamp", "--", "hostname"], 0).await?;

        tell(
            "10. When something does not work: every step, what it saw, and what to do. One that works, one that does not:",
        );
        self.show(&["check", "pier-lamp"], 0).await?;
        self.show(&["check", "fog-bell"], code::TRUST).await
    }

    /// The end: a machine whose key has changed.
    pub(crate) async fn changed_key(&self, relit: &Harbour) -> Result<(), Failure> {
        let Some(lit) = relit.machines().first() else { return Ok(()) };
        tell("11. lamp-02 is set up anew behind our back, with another host key. Everything stops:");
        let name = lit.spec.name.as_str();
        self.run_quietly(&["machine", "remove", name]).await?;
        let address = format!("keeper@{}", lit.address);
        self.run_quietly(&["machine", "add", name, &address, "--key", KEY]).await?;
        self.show(&["run", name, "--", "whoami"], code::TRUST).await?;
        tell(
            "That was the walk. `lantern demo --stay` keeps the machines lit; `lantern shell lamp-01` is the next thing to try.",
        );
        Ok(())
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(self.lantern);
        command.args(words).env("LANTERN_HOME", self.home.path()).kill_on_drop(true).stdin(Stdio::null());
        command
    }

    async fn run_quietly(&self, words: &[&str]) -> Result<(), Failure> {
        let status =
            self.command(words).arg("--quiet").stdout(Stdio::null()).status().await.map_err(broken)?;
        expect_status(words, status.code(), 0)
    }

    /// Shows a command and what comes back; another status than expected ends the demo.
    async fn show(&self, words: &[&str], expected: u8) -> Result<(), Failure> {
        echo(words);
        let status = self.command(words).status().await.map_err(broken)?;
        if expected != 0 {
            output::say(&format!("(exit code {})", status.code().unwrap_or_default()));
        }
        expect_status(words, status.code(), expected)
    }

    async fn show_with_input(&self, words: &[&str], input: &str) -> Result<(), Failure> {
        echo(words);
        let mut child = self.command(words).stdin(Stdio::piped()).spawn().map_err(broken)?;
        if let Some(mut stdin) = child.stdin.take() {
            stdin.write_all(input.as_bytes()).await.map_err(broken)?;
        }
        let status = child.wait().await.map_err(broken)?;
        expect_status(words, status.code(), 0)
    }
}

fn broken(error: std::io::Error) -> Failure {
    Failure::new(code::INTERNAL, format!("the demo cannot run lantern: {error}"))
}

fn expect_status(words: &[&str], met: Option<i32>, expected: u8) -> Result<(), Failure> {
    if met == Some(i32::from(expected)) {
        return Ok(());
    }
    let met = met.map_or("a signal".into(), |code| code.to_string());
    Err(Failure::new(
        code::INTERNAL,
        format!(
            "the demo went wrong: `lantern {}` ended with {met}, expected was {expected}",
            words.join(" ")
        ),
    ))
}

fn tell(text: &str) {
    let (start, end) = if output::colorful_stderr() { ("\x1b[1;33m", "\x1b[0m") } else { ("", "") };
    output::say(&format!("\n{start}{text}{end}"));
}

fn echo(words: &[&str]) {
    let quoted =
        words.iter().map(|word| if word.contains(' ') { format!("'{word}'") } else { (*word).to_owned() });
    output::say(&format!("\n% lantern {}", quoted.collect::<Vec<_>>().join(" ")));
}
