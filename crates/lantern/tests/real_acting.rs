//! `--as` on a real system: its SSH server, its program that lets users act as others, its accounts.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use support::sshd::{self, PASSWORD, Sshd};
use support::{Desk, Outcome};

/// A user who may act as anybody after saying a password, one who need say none, and one who may not.
const WITH: &str = "lampactor";
const WITHOUT: &str = "lampfree";
const NOBODY: &str = "lampidle";
const RULES: &str = "/etc/sudoers.d/lantern-tests";

fn set_up() -> Option<(Desk, Sshd)> {
    if !Path::new("/etc/sudoers.d").is_dir() {
        assert!(std::env::var_os("CI").is_none(), "the package sudo is needed in CI");
        eprintln!("\n*** SKIPPED: the package sudo is not installed; run ./test.sh as root ***\n");
        return None;
    }
    let desk = sshd::desk(&[("host", "ed25519")])?;
    [WITH, WITHOUT, NOBODY].iter().for_each(|user| sshd::make_user_named(user));
    let rules = format!(
        "{WITH} ALL=(ALL) ALL\n{WITHOUT} ALL=(ALL) NOPASSWD: ALL\nDefaults:{WITH} lecture=always,timestamp_timeout=0\n"
    );
    // What is half written would lock everybody out.
    let draft = format!("/etc/.lantern-tests.{}", std::process::id());
    fs::write(&draft, rules).unwrap();
    fs::set_permissions(&draft, fs::Permissions::from_mode(0o440)).unwrap();
    fs::rename(&draft, RULES).unwrap();
    let server = Sshd::start(&desk, "host", "");
    desk.lantern(&["machine", "add", "lamp-01", &server.address]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
    Some((desk, server))
}

fn lantern(desk: &Desk, user: &str, words: &[&str], password: &str) -> Outcome {
    let behind = words.iter().position(|word| *word == "--").unwrap_or(words.len());
    let (before, command) = words.split_at(behind);
    let own = ["--as", "root", "--user", user, "--as-password-from", "fd:3"];
    desk.with_secrets(&[before, &own, command].concat(), password, "")
}

#[test]
fn commands_run_as_root_and_nothing_of_the_password_gets_there() {
    let Some((desk, _server)) = set_up() else { return };
    let who = lantern(&desk, WITH, &["run", "lamp-01", "--", "id", "-un"], PASSWORD).expect(0);
    assert_eq!((who.text(), who.err.as_str()), ("root\n", ""));
    // One line for a shell, with what shells read; its status and its complaints are its own.
    let line = ["run", "lamp-01", "--", "echo \"$HOME\" \"$USER\"; wc -c; echo said >&2; exit 7"];
    let said = lantern(&desk, WITH, &line, PASSWORD);
    assert_eq!((said.status, said.text(), said.err.as_str()), (7, "/root root\n0\n", "said\n"));
    let free = lantern(&desk, WITHOUT, &["run", "lamp-01", "--", "wc", "-c"], PASSWORD).expect(0);
    assert_eq!(free.text(), "0\n");
    // Whatever comes at once behind the mark.
    let loud = ["run", "lamp-01", "--", "yes x | head -c 300000 >&2"];
    let loud = lantern(&desk, WITH, &loud, PASSWORD).expect(0);
    assert_eq!((loud.err.len(), loud.err.bytes().all(|byte| b"x\n".contains(&byte))), (300_000, true));
    // A script takes the place of the input, and comes whole.
    fs::write(
        desk.folder.path().join("who.sh"),
        "id -un\nread -r next\necho not read as input: \"$next\"\necho end\n",
    )
    .unwrap();
    let script = lantern(&desk, WITH, &["run", "lamp-01", "--script", "who.sh"], PASSWORD).expect(0);
    assert!(script.text().starts_with("root\n"), "{}", script.text());
    // As somebody else than root.
    let own = ["run", "lamp-01", "--as", NOBODY, "--user", WITHOUT, "--", "id", "-un"];
    assert_eq!(desk.lantern(&own).expect(0).text(), format!("{NOBODY}\n"));
}

#[test]
fn refusals_of_the_real_program_are_told() {
    let Some((desk, _server)) = set_up() else { return };
    let words = ["run", "lamp-01", "--", "id", "-un"];
    let wrong = lantern(&desk, WITH, &words, "high water").expect(249);
    assert!(
        wrong.err.contains("does not let lampactor act as root") && wrong.text().is_empty(),
        "{}",
        wrong.err
    );
    let idle = lantern(&desk, NOBODY, &words, PASSWORD).expect(249);
    assert!(
        idle.err.contains("does not let lampidle act as root: lampidle is not in the sudoers file"),
        "{}",
        idle.err
    );
    let none = desk.lantern(&["run", "lamp-01", "--as", "root", "--user", WITH, "--", "id"]).expect(249);
    assert!(none.err.contains("wants the password of lampactor"), "{}", none.err);
    let unknown = ["run", "lamp-01", "--as", "no-such-user", "--user", WITHOUT, "--", "id"];
    let unknown = desk.lantern(&unknown).expect(249);
    assert!(unknown.err.contains("unknown user"), "{}", unknown.err);
}

#[test]
fn files_of_root_are_copied_and_edited() {
    let Some((desk, _server)) = set_up() else { return };
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o700)).unwrap();
    let file = folder.path().join("secret.conf");
    fs::write(&file, "lamp = lit\n").unwrap();
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    let place = format!("lamp-01:{}", file.display());
    desk.lantern(&["files", "show", &place, "--user", WITH]).expect(250);
    let shown = lantern(&desk, WITH, &["files", "show", &place], PASSWORD).expect(0);
    assert_eq!(shown.text(), "lamp = lit\n");
    lantern(&desk, WITH, &["copy", &place, "here.conf", "--verify"], PASSWORD).expect(0);
    let mut command = desk.command(&["edit", &place, "--as", "root", "--user", WITH, "--as-password-from"]);
    command.arg(format!("command:echo {PASSWORD}")).env("EDITOR", "sed -i s/lit/dark/");
    let edited: Outcome = command.output().unwrap().into();
    edited.expect(0);
    assert_eq!(fs::read_to_string(&file).unwrap(), "lamp = dark\n");
    let known = fs::metadata(&file).unwrap();
    assert_eq!((known.uid(), known.mode() & 0o777), (0, 0o640));
}
