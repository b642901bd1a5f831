//! A display server of our own, for as long as a test lasts.

use std::env;
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use super::Desk;

const SERVER: &str = "/usr/bin/Xvfb";

pub struct Display {
    child: Child,
    pub name: String,
    pub authority: PathBuf,
}

impl Drop for Display {
    fn drop(&mut self) {
        self.signal("CONT");
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Whether there is one. Without the package, tests that need it are skipped loudly; in CI that is a failure.
pub fn available() -> bool {
    if PathBuf::from(SERVER).exists() {
        return true;
    }
    assert!(env::var_os("CI").is_none(), "a display server is needed in CI: {SERVER}");
    eprintln!(
        "\n*** SKIPPED: a test with a display server ({SERVER} is not installed); run ./test.sh as root ***\n"
    );
    false
}

/// An entry for all displays of all computers: family, address, number, protocol, cookie.
fn entry(cookie: &[u8; 16]) -> Vec<u8> {
    let part = |bytes: &[u8]| [&(bytes.len() as u16).to_be_bytes()[..], bytes].concat();
    [vec![0xff, 0xff], part(b""), part(b""), part(b"MIT-MAGIC-COOKIE-1"), part(cookie)].concat()
}

impl Display {
    /// Starts it at a number that is free; it lets in whoever has its cookie.
    pub fn start(desk: &Desk, with_security: bool) -> Self {
        let authority = desk.folder.path().join(format!("authority-{with_security}"));
        fs::write(&authority, entry(b"sixteen in brass")).unwrap();
        let security = if with_security { "+extension" } else { "-extension" };
        let mut child = Command::new(SERVER)
            // Else it begins anew whenever its last program leaves, and whoever comes in that moment finds nothing.
            .arg("-noreset")
            .args(["-displayfd", "1", "-screen", "0", "800x600x24", "-nolisten", "tcp", security, "SECURITY"])
            .args(["-auth".as_ref(), authority.as_os_str()])
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut number = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut number).unwrap();
        Self { child, name: format!(":{}", number.trim()), authority }
    }

    /// The environment of a desk in front of it.
    pub fn in_front<'a>(&self, command: &'a mut Command) -> &'a mut Command {
        command.env("DISPLAY", &self.name).env("XAUTHORITY", &self.authority)
    }

    /// What a program here says that looks at it.
    pub fn ask(&self, program: &str, words: &[&str]) -> String {
        let mut command = Command::new(program);
        let output = self.in_front(command.args(words)).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// How many windows there are.
    pub fn windows(&self) -> usize {
        let said = self.ask("xwininfo", &["-root", "-children"]);
        let count = said.lines().find_map(|line| line.trim().split_once(" child"));
        count.and_then(|(count, _)| count.parse().ok()).unwrap_or(0)
    }

    pub fn signal(&self, name: &str) {
        let _ = Command::new("kill").args(["-s", name, &self.child.id().to_string()]).status();
    }

    pub fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
