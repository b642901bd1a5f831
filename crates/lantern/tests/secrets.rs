//! What the program knows and nobody else may: not in core files, not by a look into the process.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use support::copy_program;

/// A user other than root and us.
const NOBODY: u32 = 65534;

/// A folder that anybody may enter, with the program in it.
struct Yard {
    folder: tempfile::TempDir,
    user: u32,
}

impl Yard {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let us = rustix::process::geteuid().as_raw();
        // Root looks into every process, so that as root this is tried as another user.
        let user = if us == 0 { NOBODY } else { us };
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        copy_program(&folder.path().join("lantern"));
        let home = folder.path().join("home");
        fs::create_dir(&home).unwrap();
        std::os::unix::fs::chown(&home, Some(user), None).unwrap();
        Self { folder, user }
    }

    fn program(&self) -> PathBuf {
        self.folder.path().join("lantern")
    }

    fn command(&self, program: &Path, words: &[&str]) -> Command {
        let mut command = Command::new(program);
        command
            .args(words)
            .current_dir(self.folder.path())
            .env("LANTERN_HOME", self.folder.path().join("home"));
        if rustix::process::geteuid().is_root() {
            std::os::unix::process::CommandExt::uid(&mut command, self.user);
        }
        command
    }

    fn start(&self, program: &Path, words: &[&str]) -> Child {
        self.command(program, words).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap()
    }
}

/// Whom what can be seen of a process belongs to: to its user when it may be looked into and leaves core files, else to root.
fn owner(process: &Child) -> u32 {
    fs::metadata(format!("/proc/{}/environ", process.id())).unwrap().uid()
}

#[test]
fn every_command_is_closed_to_others_of_the_same_user_from_its_first_moment() {
    let yard = Yard::new();
    // What is looked at tells the two apart.
    let mut open = yard.start(Path::new("/bin/cat"), &[]);
    assert_eq!(owner(&open), yard.user);
    open.kill().unwrap();
    open.wait().unwrap();
    for words in
        [&["key", "show", "-"][..], &["trust", "import", "-"], &["machine", "import", "-", "--format", "csv"]]
    {
        let mut waiting = yard.start(&yard.program(), words);
        let mut tries = 0;
        while owner(&waiting) != 0 {
            assert_eq!(waiting.try_wait().unwrap(), None, "{words:?} did not wait for its input");
            tries += 1;
            assert!(tries < 1000, "{words:?} can be looked into");
            std::thread::sleep(Duration::from_millis(5));
        }
        waiting.kill().unwrap();
        waiting.wait().unwrap();
    }
}

/// A process that cannot be looked into still reads what it was given under the names of descriptors.
#[test]
fn descriptors_are_read_by_their_names_all_the_same() {
    let yard = Yard::new();
    let made = yard.command(&yard.program(), &["key", "new", "lamp", "--plain"]).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let script = "./lantern key show /dev/fd/3 3<home/keys/lamp.pub && ./lantern key convert lamp --public --out /dev/stdout";
    let shown = yard.command(Path::new("/bin/sh"), &["-c", script]).output().unwrap();
    let text = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.status.success() && text.contains("Ed25519") && text.contains("ssh-ed25519 "), "{shown:?}");
}
