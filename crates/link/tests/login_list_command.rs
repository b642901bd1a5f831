//! The constant command that replaces the list of logins, run by this computer's own `sh` on a home of its own.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use lantern_link::remote_logins::{LIST_FOLLOWS, READ_COMMAND, WRITE_COMMAND, cksum};

struct There {
    home: tempfile::TempDir,
}

impl There {
    fn new() -> Self {
        Self { home: tempfile::tempdir().unwrap() }
    }

    fn list(&self) -> PathBuf {
        self.home.path().join(".ssh/authorized_keys")
    }

    fn run(&self, command: &str, input: &[u8]) -> (i32, Vec<u8>) {
        let mut shell = Command::new("sh")
            .args(["-c", command])
            .env("HOME", self.home.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        // One that ends early reads no more.
        let _ = shell.stdin.take().unwrap().write_all(input);
        let output = shell.wait_with_output().unwrap();
        (output.status.code().unwrap(), output.stdout)
    }

    fn write(&self, old: &[u8], new: &[u8]) -> i32 {
        let head = format!("{} {} {}\n", cksum(old), old.len(), new.len());
        self.run(WRITE_COMMAND, &[head.as_bytes(), new].concat()).0
    }

    fn read(&self) -> Vec<u8> {
        let (status, out) = self.run(READ_COMMAND, b"");
        assert_eq!(status, 0);
        out.strip_prefix(LIST_FOLLOWS).unwrap().to_vec()
    }

    /// Nothing is left lying about.
    fn files(&self) -> usize {
        std::fs::read_dir(self.home.path().join(".ssh")).map_or(0, Iterator::count)
    }
}

#[test]
fn a_list_is_made_replaced_and_closed_to_others() {
    let there = There::new();
    assert_eq!(there.read(), b"");
    assert_eq!(there.write(b"", b"one\n"), 0);
    // Bytes are bytes: no end, zeros, quotes, a percent sign.
    let odd = b"two \0 'x' \"$HOME\" %s \\n no end";
    assert_eq!(there.write(b"one\n", odd), 0);
    assert_eq!(there.read(), odd);
    let mode = |path: PathBuf| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(there.list()), mode(there.home.path().join(".ssh"))), (0o600, 0o700));
    assert_eq!(there.write(odd, b""), 0);
    assert_eq!((there.read(), there.files()), (Vec::new(), 1));
}

/// Also when it has the same length as before.
#[test]
fn a_list_that_somebody_else_changed_is_left_alone() {
    let there = There::new();
    there.write(b"", b"aaaa\n");
    for other in [&b"aaab\n"[..], b"aaaa", b"", b"aaaa\nmore\n"] {
        std::fs::write(there.list(), other).unwrap();
        assert_eq!(there.write(b"aaaa\n", b"ours\n"), 96, "{other:?}");
        assert_eq!((there.read().as_slice(), there.files()), (other, 1));
    }
    std::fs::remove_file(there.list()).unwrap();
    assert_eq!((there.write(b"aaaa\n", b"ours\n"), there.files()), (96, 0));
}

#[test]
fn what_does_not_arrive_whole_changes_nothing() {
    let there = There::new();
    there.write(b"", b"one\n");
    let head = format!("{} 4 100\n", cksum(b"one\n"));
    for input in [&b""[..], b"no numbers", head.as_bytes(), &[head.as_bytes(), b"half"].concat()] {
        let (status, _) = there.run(WRITE_COMMAND, input);
        assert_ne!(status, 0, "{input:?}");
        assert_eq!((there.read().as_slice(), there.files()), (&b"one\n"[..], 1));
    }
}

/// A list that is kept elsewhere stays there, and the link to it too.
#[test]
fn a_link_to_a_list_is_followed() {
    let there = There::new();
    let elsewhere = there.home.path().join("kept-elsewhere");
    std::fs::write(&elsewhere, "one\n").unwrap();
    std::fs::create_dir(there.home.path().join(".ssh")).unwrap();
    std::os::unix::fs::symlink(&elsewhere, there.list()).unwrap();
    assert_eq!(there.write(b"one\n", b"two\n"), 0);
    assert_eq!(std::fs::read(&elsewhere).unwrap(), b"two\n");
    assert!(std::fs::symlink_metadata(there.list()).unwrap().is_symlink());
}

/// Many at once: each change is made on what was there, and whoever was overtaken is told.
#[test]
fn many_at_once_lose_nothing_and_leave_nothing() {
    let there = There::new();
    there.write(b"", b"first\n");
    std::thread::scope(|scope| {
        for worker in 0..6 {
            let there = &there;
            scope.spawn(move || {
                for turn in 0..5 {
                    loop {
                        let old = there.read();
                        let new = [&old[..], format!("line {worker} {turn}\n").as_bytes()].concat();
                        match there.write(&old, &new) {
                            0 => break,
                            status => assert_eq!(status, 96),
                        }
                    }
                }
            });
        }
    });
    let list = String::from_utf8(there.read()).unwrap();
    assert_eq!(list.lines().count(), 1 + 6 * 5, "{list}");
    let lines: std::collections::BTreeSet<&str> = list.lines().collect();
    assert_eq!((lines.len(), there.files()), (31, 1));
}

/// A lock that somebody left behind is waited for, and taken away when it is old.
#[test]
fn a_lock_that_was_left_behind_holds_nobody_for_ever() {
    let there = There::new();
    there.write(b"", b"one\n");
    let lock = there.home.path().join(".ssh/authorized_keys.lock");
    std::fs::create_dir(&lock).unwrap();
    std::thread::scope(|scope| {
        let waiting = scope.spawn(|| there.write(b"one\n", b"two\n"));
        std::thread::sleep(std::time::Duration::from_millis(300));
        assert!(!waiting.is_finished());
        std::fs::remove_dir(&lock).unwrap();
        assert_eq!(waiting.join().unwrap(), 0);
    });
    std::fs::create_dir(&lock).unwrap();
    let old = Command::new("touch").args(["-d", "10 minutes ago"]).arg(&lock).status().unwrap();
    assert!(old.success());
    assert_eq!((there.write(b"two\n", b"three\n"), there.files()), (0, 1));
    std::fs::create_dir(&lock).unwrap();
    assert_eq!((there.write(b"three\n", b"four\n"), there.files()), (99, 2));
    assert_eq!(there.read(), b"three\n");
}
