//! `--as`: commands, files and edits as another user of the machine; passwords that go where they are meant to go and nowhere else.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};

use lantern_harbour::{Acting, MachineSpec};
use support::windows::{Windows, chart_room, desk_that_trusts};
use support::{Desk, Lit, Outcome, Screen, light, light_all, machine};

const PASSWORD: &str = "low water";

fn desk_and_machine(acting: Acting) -> (Desk, Lit) {
    let desk = Desk::with_key();
    let lit = light(MachineSpec { acting, ..machine("lamp-01", &desk.public_key("harbour")) });
    desk.add(&lit);
    (desk, lit)
}

fn by_password() -> Acting {
    Acting::ByPassword(PASSWORD.to_owned())
}

/// With the password from a descriptor.
fn with_password(desk: &Desk, words: &[&str], password: &str) -> Outcome {
    let behind = words.iter().position(|word| *word == "--").unwrap_or(words.len());
    let (before, command) = words.split_at(behind);
    desk.with_secrets(&[before, &["--as-password-from", "fd:3"], command].concat(), password, "")
}

#[test]
fn a_command_runs_as_another_and_its_input_has_no_password_in_it() {
    let (desk, _lit) = desk_and_machine(by_password());
    let who = with_password(&desk, &["run", "lamp-01", "--as", "root", "--", "whoami"], PASSWORD).expect(0);
    assert_eq!((who.text(), who.err.as_str()), ("root\n", ""));
    // What the machine's program wrote before the command is not the command's, and what the command reads is what we were given.
    let mut child = desk
        .command(&[
            "run",
            "lamp-01",
            "--as",
            "root",
            "--as-password-from",
            "command:echo low water",
            "--",
            "mirror",
        ])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), b"one\ntwo\n").unwrap();
    let out = child.wait_with_output().unwrap();
    assert_eq!((out.stdout.as_slice(), out.stderr.as_slice()), (&b"one\ntwo\n"[..], &b""[..]));
    // Its status is its own.
    let failed = with_password(&desk, &["run", "lamp-01", "--as", "root", "--", "fail", "7"], PASSWORD);
    assert_eq!(failed.status, 7, "{}", failed.err);
}

#[test]
fn where_no_password_is_wanted_none_is_sent() {
    let (desk, _lit) = desk_and_machine(Acting::Freely);
    let said = with_password(&desk, &["run", "lamp-01", "--as", "root", "--", "swallow"], PASSWORD).expect(0);
    assert_eq!(said.text().trim(), "0");
    // The book says it, too.
    desk.lantern(&["machine", "set", "lamp-01", "as=root"]).expect(0);
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0).text(), "root\n");
    desk.lantern(&["machine", "set", "lamp-01", "as=-x"]).expect(241);
}

#[test]
fn refusals_are_told_apart() {
    for (acting, password, status, told) in [
        (by_password(), Some("wrong"), 249, "does not let keeper act as root"),
        (by_password(), None, 249, "wants the password of keeper"),
        (Acting::Nobody, Some(PASSWORD), 249, "is not among those who may"),
        (Acting::Missing, Some(PASSWORD), 249, "has no program"),
    ] {
        let (desk, _lit) = desk_and_machine(acting.clone());
        let words = ["run", "lamp-01", "--as", "root", "--", "whoami"];
        let refused = match password {
            Some(password) => with_password(&desk, &words, password),
            None => desk.lantern(&words),
        };
        assert_eq!((refused.status, refused.text()), (status, ""), "{acting:?}: {}", refused.err);
        assert!(refused.err.contains(told), "{acting:?}: {}", refused.err);
        assert!(!refused.err.contains(PASSWORD) && !refused.err.contains("wrong\n"), "{}", refused.err);
    }
}

/// Windows has no such program: said before anything is sent.
#[test]
fn machines_of_windows_say_that_they_have_none() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let before = windows.seen().requests.len();
    let words = ["run", "chart-room", "--as", "root", "--password-from", "fd:3", "--", "hostname"];
    let one = desk.with_secrets(&words, support::windows::PASSWORD, "");
    assert_eq!((one.status, windows.seen().requests.len()), (240, before), "{}", one.err);
    assert!(one.err.contains("no program by which one user acts as another"), "{}", one.err);
    // Nothing runs as whoever logs in where somebody else was said.
    fs::write(desk.folder.path().join("who.ps1"), "hostname\n").unwrap();
    for words in [&["--expression", "hostname"][..], &["--script", "who.ps1"]] {
        let own = ["run", "chart-room", "--as", "root", "--password-from", "fd:3"];
        let task = desk.with_secrets(&[&own[..], words].concat(), support::windows::PASSWORD, "");
        assert_eq!(
            (task.status, task.text(), windows.seen().requests.len()),
            (240, "", before),
            "{}",
            task.err
        );
    }
    let script =
        ["run", "chart-*", "--as", "root", "--password-from", "fd:3", "--json", "--script", "who.ps1"];
    let script = desk.with_secrets(&script, support::windows::PASSWORD, "");
    assert!(script.status != 0 && script.text().contains("no program by which"), "{}", script.text());
    let many = ["run", "chart-*", "--as", "root", "--password-from", "fd:3", "--json", "--", "hostname"];
    let many = desk.with_secrets(&many, support::windows::PASSWORD, "");
    assert!(many.status != 0 && many.text().contains("no program by which"), "{}", many.text());
    let listed = ["files", "list", "chart-room:", "--as", "root", "--password-from", "fd:3"];
    let listed = desk.with_secrets(&listed, support::windows::PASSWORD, "");
    assert!(listed.status != 0 && listed.err.contains("no program by which"), "{}", listed.err);
}

/// A question that is not ours gets no answer, and is not waited for without end.
#[test]
fn another_question_is_not_answered() {
    let (desk, _lit) = desk_and_machine(Acting::ByCode);
    desk.lantern(&["machine", "set", "lamp-01", "login-limit=1"]).expect(0);
    let told = with_password(&desk, &["run", "lamp-01", "--as", "root", "--", "whoami"], PASSWORD);
    assert_eq!(told.status, 249, "{}", told.err);
    assert!(
        told.err.contains("asks for something else") && told.err.contains("The code of today:"),
        "{}",
        told.err
    );
}

#[test]
fn a_person_is_asked_and_may_try_again() {
    let (desk, _lit) = desk_and_machine(by_password());
    let mut screen = Screen::open(&desk, &["run", "lamp-01", "--as", "root", "--", "whoami"]);
    screen.wait_for("Password of keeper on lamp-01, to act as root: ");
    screen.send("high water\r");
    screen.wait_for("That was not it. Password of keeper");
    screen.send("low water\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.text().contains("root") && !screen.text().contains("water"), "{}", screen.text());
}

#[test]
fn one_of_many_finds_out_what_a_password_is_worth() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let spec = |name: &str| MachineSpec { acting: by_password(), ..machine(name, &key) };
    let names: Vec<String> = (1..=8).map(|number| format!("lamp-{number:02}")).collect();
    let lit = light_all(names.iter().map(|name| spec(name)).collect());
    lit.iter().for_each(|lit| desk.add(lit));
    let words = ["run", "lamp-*", "--as", "root", "--json", "--", "whoami"];
    let plan = desk.lantern(&["run", "lamp-*", "--as", "root", "--plan", "--", "whoami"]).expect(0);
    assert_eq!(plan.text().matches("keeper, as root").count(), 8, "{}", plan.text());
    let all = with_password(&desk, &words, PASSWORD).expect(0);
    assert_eq!(all.text().matches("\"text\":\"root\"").count(), 8, "{}", all.text());
    // A wrong one is tried on one machine alone.
    let wrong = with_password(&desk, &words, "high tide");
    assert_ne!(wrong.status, 0);
    let (refused, spared) =
        (wrong.text().matches("does not let keeper").count(), wrong.text().matches("refused").count());
    assert!(refused == 1 && spared >= 7, "{}", wrong.text());
    // What is run again, runs as the same.
    let again = ["run", "--again", "failed", "--json"];
    let again = with_password(&desk, &again, PASSWORD).expect(0);
    assert_eq!(again.text().matches("\"text\":\"root\"").count(), 8, "{}", again.text());
}

#[test]
fn files_are_read_and_edited_as_another() {
    let (desk, lit) = desk_and_machine(by_password());
    // Only root may read it.
    let secret = "lamp-01:/etc/lamp/secret.key";
    desk.lantern(&["files", "show", secret]).expect(250);
    let shown = with_password(&desk, &["files", "show", secret, "--as", "root"], PASSWORD).expect(0);
    assert_eq!(shown.text(), "not for everybody\n");
    with_password(&desk, &["copy", secret, "here.key", "--as", "root", "--verify"], PASSWORD).expect(0);
    assert_eq!(fs::read(desk.folder.path().join("here.key")).unwrap(), b"not for everybody\n");
    let mut command =
        desk.command(&["edit", secret, "--as", "root", "--as-password-from", "command:echo low water"]);
    let edited: Outcome = command.env("EDITOR", "sed -i s/everybody/anybody/").output().unwrap().into();
    edited.expect(0);
    assert_eq!(lit.lit.file("root", "/etc/lamp/secret.key").unwrap(), b"not for anybody\n");
    let known = lit.lit.look("root", "/etc/lamp/secret.key").unwrap();
    assert_eq!((known.owner, known.permissions()), (Some((0, 0)), Some(0o600)));
}

/// The line that goes to the machine, run by a shell of this system, with a program in the path that plays the machine's.
#[test]
fn the_line_for_the_machine_does_what_it_says() {
    let folder = tempfile::tempdir().unwrap();
    let put = |name: &str, text: &str| {
        let path = folder.path().join(name);
        fs::write(&path, text).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    };
    // Reads one line at the prompt that it was given, a byte at a time as such programs do, and becomes the command.
    put(
        "sudo",
        "#!/bin/sh\nwhile [ \"$1\" != -- ]; do case $1 in -p) p=$2; shift;; -u) u=$2; shift;; esac; shift; done; shift\n\
         printf %s \"$p\" >&2; read -r word; [ \"$word\" = \"low water\" ] || exit 1\nACTING=$u; export ACTING; exec \"$@\"\n",
    );
    let privilege = lantern_link::Privilege::of("lamp keeper's");
    let words = ["printf", "[%s]", "two words", "it's", "$HOME", ""];
    let words = words.iter().map(|word| bytes::Bytes::copy_from_slice(word.as_bytes())).collect();
    let command = lantern_link::CommandWords { words, each_as_is: true, by_interpreter: false };
    let line = privilege.around(&command).words.remove(0);
    let line = String::from_utf8(line.to_vec()).unwrap();
    let entering = lantern_link::Entering::read(&line).unwrap();
    assert_eq!((entering.other.as_str(), entering.words.len()), ("lamp keeper's", 6));
    let path = format!("{}:/usr/bin:/bin", folder.path().display());
    let mut child = Command::new("sh")
        .args(["-c", &format!("{line}; echo \"$ACTING\"")])
        .env("PATH", path)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), b"low water\nrest").unwrap();
    let out = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&out.stdout), "[two words][it's][$HOME][]");
    assert_eq!(String::from_utf8_lossy(&out.stderr), format!("{}{}", entering.prompt(), entering.mark()));
    // Whoever is that user already runs it as it is.
    let user = String::from_utf8(Command::new("id").arg("-un").output().unwrap().stdout).unwrap();
    let line = lantern_link::Privilege::of(user.trim())
        .around(&lantern_link::CommandWords::line("echo $((40 + 2))"));
    let out =
        Command::new("sh").arg("-c").arg(String::from_utf8_lossy(&line.words[0]).as_ref()).output().unwrap();
    assert_eq!(out.stdout, b"42\n");
}
