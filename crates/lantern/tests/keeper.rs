//! The keeper as users meet it: unlocked once, used for every login, locked, stopped, and closed to others.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};

use serde_json::Value;
use support::{Desk, Lit, PATIENCE, Screen, light, machine};

const SECRET: &str = "twelve green lamps";

/// A desk with a running keeper, the protected key `harbour`, and a machine that takes it.
struct Kept {
    desk: Desk,
    lit: Lit,
}

impl Drop for Kept {
    fn drop(&mut self) {
        self.desk.lantern(&["keeper", "stop"]);
    }
}

impl Kept {
    fn new(options: &[&str]) -> Self {
        let desk = Desk::new();
        desk.with_secrets(&["key", "new", "harbour", "--passphrase-from", "fd:3"], SECRET, "").expect(0);
        let lit = light(machine("lamp-01", &desk.public_key("harbour")));
        desk.add(&lit);
        desk.lantern(&[&["keeper", "start"], options].concat()).expect(0);
        Self { desk, lit }
    }

    fn add(&self, options: &[&str]) {
        let words = [&["keeper", "add", "harbour", "--passphrase-from", "fd:3"], options].concat();
        self.desk.with_secrets(&words, SECRET, "").expect(0);
    }

    fn status(&self) -> Value {
        serde_json::from_str(self.desk.lantern(&["keeper", "status", "--json"]).expect(0).text()).unwrap()
    }

    /// Whether a login works without anybody to ask.
    fn logs_in(&self, options: &[&str]) -> bool {
        // Each by a login of its own.
        let words =
            [&["run", "lamp-01", "--no-questions", "--no-share"], options, &["--", "hostname"]].concat();
        let outcome = self.desk.without_terminal(&words);
        assert!([0, 249].contains(&outcome.status), "{}", outcome.err);
        outcome.status == 0
    }
}

#[test]
fn a_key_unlocked_once_serves_every_login_until_it_is_forgotten_locked_or_stopped() {
    let kept = Kept::new(&[]);
    assert!(!kept.logs_in(&[]));
    kept.add(&[]);
    assert!(kept.logs_in(&[]));
    assert!(kept.logs_in(&["--key", "harbour"]));
    assert!(!kept.logs_in(&["--no-agent"]));
    let status = kept.status();
    assert_eq!(
        (&status["running"], &status["locked"], &status["memory_locked"]),
        (&Value::Bool(true), &Value::Bool(false), &Value::Bool(true))
    );
    assert_eq!(status["keys"][0]["name"], "harbour");
    kept.desk.with_secrets(&["keeper", "lock", "--passphrase-from", "fd:3"], "foghorn", "").expect(0);
    assert!(!kept.logs_in(&[]));
    let wrong =
        kept.desk.with_secrets(&["keeper", "unlock", "--passphrase-from", "fd:3"], "foghorm", "").expect(241);
    assert!(wrong.err.contains("not its passphrase"), "{}", wrong.err);
    assert!(
        kept.desk
            .with_secrets(&["keeper", "add", "harbour", "--passphrase-from", "fd:3"], SECRET, "")
            .expect(241)
            .err
            .contains("is locked")
    );
    kept.desk.with_secrets(&["keeper", "unlock", "--passphrase-from", "fd:3"], "foghorn", "").expect(0);
    assert!(kept.logs_in(&[]));
    kept.desk.lantern(&["keeper", "forget", "harbour"]).expect(0);
    assert!(!kept.logs_in(&[]));
    kept.add(&["--lifetime", "1s"]);
    let start = Instant::now();
    while !kept.status()["keys"].as_array().unwrap().is_empty() {
        assert!(start.elapsed() < PATIENCE, "the key is never forgotten");
        std::thread::sleep(Duration::from_millis(100));
    }
    assert!(start.elapsed() >= Duration::from_millis(500));
    kept.desk.lantern(&["keeper", "stop"]).expect(0);
    assert_eq!(kept.status()["running"], false);
    assert!(!kept.desk.home().join("keeper.sock").exists());
    let _ = &kept.lit;
}

#[test]
fn other_programs_and_other_homes_find_it_by_its_socket() {
    let kept = Kept::new(&[]);
    kept.add(&[]);
    let socket = kept.desk.home().join("keeper.sock");
    // Another home, whose only way to the key is the agent that the environment names.
    let other = Desk::new();
    other.add(&kept.lit);
    let words = ["run", "lamp-01", "--no-questions", "--", "hostname"];
    let outcome = other.command(&words).env("SSH_AUTH_SOCK", &socket).output().unwrap();
    assert!(outcome.status.success(), "{}", String::from_utf8_lossy(&outcome.stderr));
    other.lantern(&words).expect(249);
    let words = ["run", "lamp-01", "--no-questions", "--no-agent", "--", "hostname"];
    let outcome = other.command(&words).env("SSH_AUTH_SOCK", &socket).output().unwrap();
    assert_eq!(outcome.status.code(), Some(249));
    // A socket where nobody listens is passed over.
    let words = ["run", "lamp-01", "--no-questions", "--", "hostname"];
    let outcome = kept.desk.command(&words).env("SSH_AUTH_SOCK", "/nowhere/agent").output().unwrap();
    assert!(outcome.status.success(), "{}", String::from_utf8_lossy(&outcome.stderr));
}

#[test]
fn it_is_closed_to_others_and_survives_those_who_break_the_protocol() {
    let kept = Kept::new(&[]);
    kept.add(&[]);
    let socket = kept.desk.home().join("keeper.sock");
    assert_eq!(fs::metadata(&socket).unwrap().permissions().mode() & 0o777, 0o600);
    let pid = kept.status()["pid"].as_u64().unwrap();
    // No core file, and memory that is not swapped out.
    let limits = fs::read_to_string(format!("/proc/{pid}/limits")).unwrap();
    let core = limits.lines().find(|line| line.starts_with("Max core file size")).unwrap();
    assert!(core.split_whitespace().nth(4) == Some("0"), "{core}");
    let locked = fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let locked = locked.lines().find_map(|line| line.strip_prefix("VmLck:")).unwrap().trim().to_owned();
    assert!(locked.trim_end_matches(" kB").parse::<u64>().unwrap() >= 1024, "{locked}");
    for hostile in [
        &b"\xff\xff\xff\xff"[..],
        b"\0\0\0\x01\x63",
        b"\0\0\0\x05\x0d\xff\xff\xff\xff",
        b"\0\0\0\0",
        b"GET / HTTP/1.1\r\n\r\n",
    ] {
        let mut stream = UnixStream::connect(&socket).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream.write_all(hostile).unwrap();
        stream.shutdown(std::net::Shutdown::Write).unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        assert!(answer.is_empty() || answer == b"\0\0\0\x01\x05", "{answer:?}");
    }
    assert!(kept.logs_in(&[]));
    // Killed, it leaves a socket behind that hinders nobody.
    rustix::process::kill_process(
        rustix::process::Pid::from_raw(pid as i32).unwrap(),
        rustix::process::Signal::KILL,
    )
    .unwrap();
    assert!(!kept.logs_in(&[]));
    kept.desk.lantern(&["keeper", "start"]).expect(0);
    assert!(!kept.logs_in(&[]));
    let second = kept.desk.lantern(&["keeper", "start"]).expect(0);
    assert!(second.err.contains("runs already"), "{}", second.err);
}

#[test]
fn a_key_that_wants_a_yes_is_used_only_with_one() {
    let desk = Desk::new();
    let answer = desk.folder.path().join("answer");
    let ask = desk.folder.path().join("ask");
    fs::write(&ask, format!("#!/bin/sh\necho \"$1\" >> {0}.questions\nexit $(cat {0})\n", answer.display()))
        .unwrap();
    fs::set_permissions(&ask, fs::Permissions::from_mode(0o755)).unwrap();
    let kept = Kept::new(&["--confirm-with", ask.to_str().unwrap()]);
    kept.add(&["--confirm"]);
    fs::write(&answer, "0").unwrap();
    assert!(kept.logs_in(&[]));
    fs::write(&answer, "1").unwrap();
    assert!(!kept.logs_in(&[]));
    let questions = fs::read_to_string(desk.folder.path().join("answer.questions")).unwrap();
    assert_eq!(questions.lines().count(), 2);
    assert!(questions.starts_with("Allow one use of the key keeper@"), "{questions}");
}

/// Without a program the question comes to the terminal of whoever wants to use the key, and only the word that it shows is a yes.
#[test]
fn a_use_is_asked_about_on_the_terminal() {
    let kept = Kept::new(&[]);
    kept.add(&["--confirm"]);
    // Nobody there: no.
    let words = ["run", "lamp-01", "--no-questions", "--", "hostname"];
    kept.desk.without_terminal(&words).expect(249);
    let asked = |answer: &dyn Fn(&str) -> String| {
        let mut screen = Screen::open(&kept.desk, &words);
        let text = screen.wait_for("anything else refuses");
        assert!(text.contains("keeper: Allow one use of the key keeper@"), "{text}");
        let word = text[text.rfind("Type ").unwrap()..].split_whitespace().nth(1).unwrap().to_owned();
        screen.send(&answer(&word));
        let status = screen.wait_for_exit();
        (status, screen.text())
    };
    let (status, text) = asked(&|word| format!("{word}\r"));
    assert_eq!(status, 0, "{text}");
    assert!(text.contains("keeper: allowed"), "{text}");
    for answer in ["yes\r", "\r", "y\r"] {
        assert_eq!(asked(&|_| answer.to_owned()).0, 249, "{answer:?}");
    }
    // Whoever is interrupted needs no answer, and the terminal is as it was.
    let mut screen = Screen::open(&kept.desk, &words);
    screen.wait_for("anything else refuses");
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 252);
    screen.wait_for("not needed any more");
    assert!(screen.is_cooked());
    let (status, text) = asked(&|word| format!("{word}\r"));
    assert_eq!(status, 0, "{text}");
}

#[test]
fn adding_a_key_starts_the_keeper_and_a_locked_one_shows_nothing() {
    let desk = Desk::new();
    desk.with_secrets(&["key", "new", "harbour", "--passphrase-from", "fd:3"], SECRET, "").expect(0);
    let added =
        desk.with_secrets(&["keeper", "add", "harbour", "--passphrase-from", "fd:3"], SECRET, "").expect(0);
    assert!(
        added.err.contains("The keeper is started") && added.err.contains("holds harbour"),
        "{}",
        added.err
    );
    assert!(desk.lantern(&["keeper", "status"]).expect(0).text().contains("harbour"));
    desk.with_secrets(&["keeper", "lock", "--passphrase-from", "fd:3"], "a fog bell", "").expect(0);
    let status = desk.lantern(&["keeper", "status"]).expect(0);
    assert!(
        status.text().contains("LOCKED: nothing is shown") && !status.text().contains("harbour"),
        "{}",
        status.text()
    );
    desk.with_secrets(&["keeper", "unlock", "--passphrase-from", "fd:3"], "a fog bell", "").expect(0);
    assert!(desk.lantern(&["keeper", "status"]).expect(0).text().contains("harbour"));
    desk.lantern(&["keeper", "stop"]).expect(0);
    // A key that is not there starts nothing.
    desk.lantern(&["keeper", "add", "nowhere"]).expect(241);
    assert!(desk.lantern(&["keeper", "status"]).expect(0).err.contains("does not run"));
}

#[test]
fn a_refused_signature_falls_back_to_the_passphrase() {
    let desk = Desk::new();
    let no = desk.folder.path().join("no");
    fs::write(&no, "#!/bin/sh\nexit 1\n").unwrap();
    fs::set_permissions(&no, fs::Permissions::from_mode(0o755)).unwrap();
    let kept = Kept::new(&["--confirm-with", no.to_str().unwrap()]);
    kept.add(&["--confirm"]);
    let mut screen = Screen::open(&kept.desk, &["run", "lamp-01", "--", "hostname"]);
    screen.wait_for("Passphrase of the key harbour:");
    screen.send("twelve green lamps\r");
    assert_eq!(screen.wait_for_exit(), 0);
    screen.wait_for("lamp-01");
}

#[test]
fn forwarding_without_an_agent_and_units_are_told() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let err = desk.lantern(&["run", "lamp-01", "--forward-agent", "--", "hostname"]).expect(241).err;
    assert!(err.contains("no agent to forward") && err.contains("lantern keeper start"), "{err}");
    let unit = desk.lantern(&["keeper", "unit"]).expect(0);
    assert!(unit.text().contains("keeper start --foreground --home"), "{}", unit.text());
    let config = desk.folder.path().join("config");
    let install = |words: &[&str]| {
        desk.command(words).env("HOME", desk.folder.path()).env("XDG_CONFIG_HOME", &config).output().unwrap()
    };
    let outcome = install(&["keeper", "unit", "--install"]);
    assert!(String::from_utf8_lossy(&outcome.stdout).contains("systemctl --user enable --now"));
    let written = fs::read_to_string(config.join("systemd/user/brass-lantern-keeper.service")).unwrap();
    assert_eq!(written, unit.text());
    assert_eq!(install(&["keeper", "unit", "--install"]).status.code(), Some(241));
}

/// All its sockets fit, or it does not start: one that holds keys and no connections would be taken for something else.
#[test]
fn a_home_whose_name_is_too_long_for_sockets_is_told_before_anything_starts() {
    let desk = Desk::new();
    let stem = desk.folder.path().as_os_str().len() + 1;
    let with_home = |len: usize| desk.folder.path().join("x".repeat(len - stem)).display().to_string();
    let longest = 107 - "/open/keeper.sock".len();
    let home = with_home(longest);
    desk.lantern(&["--home", &home, "keeper", "start"]).expect(0);
    assert!(std::os::unix::net::UnixStream::connect(format!("{home}/open/keeper.sock")).is_ok());
    desk.lantern(&["--home", &home, "keeper", "stop"]).expect(0);
    let home = with_home(longest + 1);
    let refused = desk.lantern(&["--home", &home, "keeper", "start"]).expect(241);
    assert!(refused.err.contains("shorter path"), "{}", refused.err);
    assert!(!std::path::Path::new(&home).join("keeper.sock").exists());
}
