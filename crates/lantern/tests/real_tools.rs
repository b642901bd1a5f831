//! Programs that call a remote shell by themselves, pointed at `lantern run`: version control and synchronisation, with a key that the keeper holds and
//! with paths that have spaces; and loops, which keep their lists.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::Command;

use support::sshd::{self, Sshd};
use support::{Desk, Outcome, binary, light, machine};

/// A machine by its name, a key in the keeper, and a folder that both sides can write to.
fn scene() -> Option<(Desk, Sshd, PathBuf)> {
    let (desk, server, _) = sshd::with_keeper("", &[])?;
    let shared = desk.folder.path().join("on the coast");
    fs::create_dir(&shared).unwrap();
    fs::set_permissions(&shared, fs::Permissions::from_mode(0o777)).unwrap();
    Some((desk, server, shared))
}

fn tool(desk: &Desk, program: &str, words: &[&str]) -> Outcome {
    let mut command = Command::new(program);
    command.args(words).current_dir(desk.folder.path()).env_clear();
    command
        .env("PATH", "/usr/local/bin:/usr/bin:/bin")
        .env("HOME", desk.folder.path())
        .env("LANG", "C.UTF-8");
    command.env("LANTERN_HOME", desk.home()).env("USER", "keeper");
    command.env("GIT_SSH_COMMAND", format!("{} run", binary())).env("GIT_SSH_VARIANT", "simple");
    for (name, value) in [("AUTHOR", "keeper"), ("COMMITTER", "keeper")] {
        command
            .env(format!("GIT_{name}_NAME"), value)
            .env(format!("GIT_{name}_EMAIL"), "keeper@lamp.example");
    }
    command.output().unwrap().into()
}

#[test]
fn version_control_goes_over_run() {
    let Some((desk, _server, shared)) = scene() else { return };
    let there = shared.join("log book.git").display().to_string();
    desk.lantern(&["run", "lamp-01", "--", "git", "init", "--quiet", "--bare", &there]).expect(0);
    let remote = format!("lamp-01:{there}");
    tool(&desk, "git", &["clone", "--quiet", &remote, "my copy"]).expect(0);
    fs::write(desk.folder.path().join("my copy/page 1"), support::noise(300_000)).unwrap();
    tool(&desk, "git", &["-C", "my copy", "add", "."]).expect(0);
    tool(&desk, "git", &["-C", "my copy", "commit", "--quiet", "-m", "The first page"]).expect(0);
    tool(&desk, "git", &["-C", "my copy", "push", "--quiet", "origin", "HEAD"]).expect(0);
    tool(&desk, "git", &["clone", "--quiet", &remote, "another copy"]).expect(0);
    let page = |copy: &str| fs::read(desk.folder.path().join(copy).join("page 1")).unwrap();
    assert!(page("another copy") == page("my copy") && page("my copy").len() == 300_000);
}

#[test]
fn synchronisation_goes_over_run_both_ways() {
    let Some((desk, _server, shared)) = scene() else { return };
    let site = desk.folder.path().join("site of mine");
    fs::create_dir(&site).unwrap();
    fs::write(site.join("tide table.csv"), support::noise(500_000)).unwrap();
    fs::write(site.join("it's $HOME"), "words").unwrap();
    let shell = format!("{} run", binary());
    let remote = format!("lamp-01:{}/copy of it/", shared.display());
    for (from, to) in [("site of mine/", remote.as_str()), (&remote, "back again/")] {
        tool(&desk, "rsync", &["-r", "-e", &shell, from, to]).expect(0);
    }
    for name in ["tide table.csv", "it's $HOME"] {
        let back = fs::read(desk.folder.path().join("back again").join(name)).unwrap();
        assert!(back == fs::read(site.join(name)).unwrap(), "{name}");
    }
}

/// Words behind `--` arrive as those words, a single one is a line for the machine's shell, and without `--` it gets them joined.
#[test]
fn words_arrive_as_they_were_given() {
    let Some((desk, _server, _)) = scene() else { return };
    let said =
        |words: &[&str]| desk.lantern(&[&["run", "lamp-01"], words].concat()).expect(0).text().to_owned();
    assert_eq!(said(&["--", "sh", "-c", "echo one; echo two"]), "one\ntwo\n");
    assert_eq!(
        said(&["--", "printf", "[%s]", "two words", "it's", "$HOME", ""]),
        "[two words][it's][$HOME][]"
    );
    assert_eq!(said(&["--", "echo one; echo $((1 + 1))"]), "one\n2\n");
    assert_eq!(said(&["echo", "one;", "echo", "$((1 + 1))"]), "one\n2\n");
    // Options of the command are the command's.
    assert_eq!(said(&["printf", "%s", "-v", "--json"]), "-v--json");
}

/// A list in a file is read to its end, whatever the commands in the loop take for themselves; one from a pipe with the option that says so.
#[test]
fn a_loop_keeps_its_list() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    fs::write(desk.folder.path().join("list"), "lamp-01\nlamp-01\nlamp-01\n").unwrap();
    let sh = |script: &str| tool(&desk, "sh", &["-c", script]).expect(0).text().to_owned();
    let run = format!("{} run", binary());
    assert_eq!(sh(&format!("while read m; do {run} $m hostname; done < list")), "lamp-01\n".repeat(3));
    assert_eq!(
        sh(&format!("cat list | while read m; do {run} --no-input $m hostname; done")),
        "lamp-01\n".repeat(3)
    );
    // And what is meant for the command gets there: from a file, from where it stands, and from a pipe.
    let sum = sh(&format!("{run} lamp-01 checksum < list"));
    assert_eq!(sum, sh(&format!("cat list | {run} lamp-01 checksum")));
    let rest = sh(&format!("{{ read first; {run} lamp-01 checksum; }} < list"));
    assert_eq!(rest, sh(&format!("tail -n 2 list | {run} lamp-01 checksum")));
    assert_ne!(rest, sum);
}
