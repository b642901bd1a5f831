//! The binary against the real SSH server.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::io::Read;

use lantern_ssh::algorithm::{CipherAlgorithm, KexAlgorithm, MacAlgorithm};
use support::sshd::{self, PASSWORD, Sshd, USER};
use support::{Desk, Screen, noise};

/// A desk with a user's key and an Ed25519 host key.
fn desk() -> Option<Desk> {
    sshd::desk(&[("host", "ed25519")])
}

fn fingerprint(desk: &Desk, key: &str) -> String {
    desk.public_key(key).fingerprint().to_string()
}

/// Runs a command on a fresh server with these settings.
#[track_caller]
fn run_with(desk: &Desk, host_key: &str, config: &str, command: &str) -> String {
    let server = Sshd::start(desk, host_key, config);
    let expect = fingerprint(desk, host_key);
    let log = desk.folder.path().join("log");
    let _ = fs::remove_file(&log);
    let outcome = desk.lantern(&[
        "run",
        &server.address,
        "--expect",
        &expect,
        "--log",
        log.to_str().unwrap(),
        "--",
        command,
    ]);
    assert_eq!(outcome.status, 0, "{config}: {}", outcome.err);
    fs::read_to_string(log).unwrap() + outcome.text()
}

#[test]
fn every_kex_cipher_and_mac_that_the_server_offers() {
    let Some(desk) = desk() else { return };
    let mut tried = 0;
    for kex in Sshd::offers(&desk, "kexalgorithms") {
        if KexAlgorithm::from_name(&kex).is_some() {
            let log = run_with(&desk, "host", &format!("KexAlgorithms {kex}"), "echo lit");
            assert!(log.contains("new keys in use") && log.ends_with("lit\n"));
            tried += 1;
        }
    }
    assert!(tried >= 9, "only {tried} key exchange methods were tried");
    let ciphers = Sshd::offers(&desk, "ciphers");
    for cipher in ciphers.iter().filter_map(|name| CipherAlgorithm::from_name(name)) {
        run_with(
            &desk,
            "host",
            &format!("Ciphers {}", cipher.name()),
            "head -c 300000 /dev/zero >/dev/null; echo lit",
        );
    }
    for mac in Sshd::offers(&desk, "macs").iter().filter_map(|name| MacAlgorithm::from_name(name)) {
        let log = run_with(&desk, "host", &format!("Ciphers aes128-ctr\nMACs {}", mac.name()), "echo lit");
        assert!(log.ends_with("lit\n"));
    }
}

#[test]
fn every_host_key_type_made_by_lantern() {
    let Some(desk) = desk() else { return };
    for (name, algorithms) in [
        ("ed25519", &["ssh-ed25519"][..]),
        ("ecdsa-p256", &["ecdsa-sha2-nistp256"]),
        ("ecdsa-p384", &["ecdsa-sha2-nistp384"]),
        ("ecdsa-p521", &["ecdsa-sha2-nistp521"]),
        ("rsa-3072", &["rsa-sha2-256", "rsa-sha2-512"]),
    ] {
        desk.lantern(&["key", "new", name, "--algorithm", name, "--plain"]).expect(0);
        for algorithm in algorithms {
            run_with(&desk, name, &format!("HostKeyAlgorithms {algorithm}"), "echo lit");
        }
        // And the same key as the user's.
        let config = "";
        let server = Sshd::start(&desk, "host", config);
        let authorized = desk.folder.path().join(format!("sshd-{}/authorized", server.port));
        fs::write(authorized, desk.lantern(&["key", "show", name, "--line"]).expect(0).out).unwrap();
        let expect = fingerprint(&desk, "host");
        desk.lantern(&["run", &server.address, "--expect", &expect, "--key", name, "--", "true"]).expect(0);
    }
}

#[test]
fn a_server_with_retired_algorithms_only_is_refused_with_the_reason() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start(&desk, "host", "KexAlgorithms diffie-hellman-group14-sha1");
    let outcome = desk.lantern(&["run", &server.address, "--", "true"]).expect(247);
    assert!(outcome.err.contains("diffie-hellman-group14-sha1 (retired: SHA-1; RFC 9142"), "{}", outcome.err);
    let server = Sshd::start(&desk, "host", "Ciphers aes256-cbc");
    let outcome = desk.lantern(&["run", &server.address, "--", "true"]).expect(247);
    assert!(outcome.err.contains("aes256-cbc (retired: CBC"), "{}", outcome.err);
}

#[test]
fn a_session_that_the_server_does_not_open_is_told_as_that() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start(&desk, "host", "MaxSessions 0");
    let expect = fingerprint(&desk, "host");
    let outcome = desk.lantern(&["run", &server.address, "--expect", &expect, "--", "true"]).expect(250);
    assert!(outcome.err.contains("did not open a session"), "{}", outcome.err);
}

#[test]
fn password_keyboard_interactive_and_key_then_password() {
    let Some(desk) = desk() else { return };
    let expect = fingerprint(&desk, "host");
    for methods in
        ["password", "keyboard-interactive", "publickey,password", "publickey,keyboard-interactive"]
    {
        let config = format!(
            "AuthenticationMethods {methods}\nPasswordAuthentication yes\nKbdInteractiveAuthentication yes"
        );
        let server = Sshd::start(&desk, "host", &config);
        let words = [
            "run",
            &server.address,
            "--expect",
            &expect,
            "--password-from",
            "fd:0",
            "--no-input",
            "--",
            "whoami",
        ];
        let outcome = desk.lantern_with_input(&words, format!("{PASSWORD}\n").into()).expect(0);
        assert_eq!(outcome.text(), format!("{USER}\n"), "{methods}");
        let outcome = desk.lantern_with_input(&words, b"wrong\n".to_vec()).expect(249);
        assert!(
            outcome.err.contains(USER) && outcome.err.contains("refused by the server"),
            "{}",
            outcome.err
        );
    }
}

#[test]
fn two_hundred_megabytes_each_way_while_the_server_rekeys_every_megabyte() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start(&desk, "host", "RekeyLimit 1M");
    let expect = fingerprint(&desk, "host");
    let data = noise(200_000_000);
    let outcome =
        desk.lantern_with_input(&["run", &server.address, "--expect", &expect, "--", "cat"], data.clone());
    assert_eq!((outcome.status, outcome.err.as_str()), (0, ""));
    assert!(outcome.out == data, "{} bytes came back, not the ones that were sent", outcome.out.len());
}

#[test]
fn a_hundred_megabytes_up_and_down_with_equal_checksums() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start(&desk, "host", "");
    let expect = fingerprint(&desk, "host");
    let data = noise(100_000_000);
    let words = |command| ["run", &server.address, "--expect", &expect, "--", command];
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, &data);
    let hex: String = digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
    let up = desk.lantern_with_input(&words("sha256sum"), data.clone()).expect(0);
    assert!(up.text().starts_with(&hex), "{}", up.text());
    let file = desk.folder.path().join("noise");
    fs::write(&file, &data).unwrap();
    let down = desk.lantern(&words(&format!("cat {}", file.display()))).expect(0);
    assert!(down.out == data, "{} bytes came down", down.out.len());
}

#[test]
fn exit_statuses_signals_and_streams_are_the_remote_ones() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start(&desk, "host", "");
    let expect = fingerprint(&desk, "host");
    let run = |command: &str| desk.lantern(&["run", &server.address, "--expect", &expect, "--", command]);
    assert_eq!(run("true").status, 0);
    assert_eq!(run("exit 77").status, 77);
    assert_eq!(run("kill -TERM $$").status, 128 + 15);
    assert_eq!(run("kill -SEGV $$").status, 128 + 11);
    let both = run("echo out; echo err >&2").expect(0);
    assert_eq!((both.text(), both.err.as_str()), ("out\n", "err\n"));
    assert_eq!(run("printf 'a\\0b\\377'").out, b"a\0b\xff");
    assert_eq!(run("echo $SSH_CONNECTION").text().split(' ').next(), Some("127.0.0.1"));

    // A reader that has enough.
    let mut child = desk.command(&["run", &server.address, "--", "yes"]).spawn().unwrap();
    let mut first = [0; 2];
    std::io::Read::read_exact(child.stdout.as_mut().unwrap(), &mut first).unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(141));

    // A disk that is full.
    let full = fs::File::options().write(true).open("/dev/full").unwrap();
    let outcome: support::Outcome =
        desk.command(&["run", &server.address, "--", "yes"]).stdout(full).output().unwrap().into();
    assert_eq!(outcome.status, 241);
    assert!(outcome.err.contains("No space left"), "{}", outcome.err);

    // Ctrl-C goes to the command; the command decides.
    let mut child = desk
        .command(&[
            "run",
            &server.address,
            "--",
            "trap 'echo caught; exit 9' INT; echo ready; sleep 60 <&- >&- 2>&- & wait",
        ])
        .spawn()
        .unwrap();
    // Once it runs, and not after some time: a loaded machine takes its time to log in.
    let mut ready = [0; 6];
    child.stdout.as_mut().unwrap().read_exact(&mut ready).unwrap();
    rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT)
        .unwrap();
    let outcome: support::Outcome = child.wait_with_output().unwrap().into();
    assert_eq!((outcome.status, outcome.text()), (9, "caught\n"), "{}", outcome.err);
}

#[test]
fn a_shell_with_a_full_screen_program_and_a_resize() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start(&desk, "host", "");
    let expect = fingerprint(&desk, "host");
    let mut screen = Screen::open(&desk, &["shell", &server.address, "--expect", &expect]);
    screen.wait_for("ready>");
    assert!(!screen.is_cooked());
    screen.send("stty size; echo \"$TERM $LANG\" 灯台 åäö\r");
    screen.wait_for("24 100");
    screen.wait_for("xterm-256color C.UTF-8 灯台 åäö");
    screen.send("seq 1 500 | less\r");
    screen.wait_until("a page of less", |text| text.starts_with("1\n") && text.contains("\n23\n"));
    screen.resize(40, 120);
    screen.wait_until("a longer page", |text| text.contains("\n39\n"));
    screen.send("G");
    screen.wait_for("500");
    screen.send("q");
    screen.wait_until("the prompt again", |text| text.trim_end().ends_with("ready>"));
    screen.send("stty size\r");
    screen.wait_for("40 120");
    screen.send("exit 5\r");
    screen.wait_for("Name [");
    screen.send("no\r");
    assert_eq!(screen.wait_for_exit(), 5);
    assert!(screen.is_cooked());
}

/// By password first, then by key; with limits that the server enforces; rotated, and taken out.
#[test]
fn a_key_is_installed_rotated_and_withdrawn() {
    if !sshd::available() {
        return;
    }
    const MATE: &str = "lampmate";
    sshd::make_user_named(MATE);
    let _ = fs::remove_dir_all(format!("/home/{MATE}/.ssh"));
    let desk = Desk::with_key();
    desk.lantern(&["key", "new", "host", "--plain"]).expect(0);
    let server = Sshd::start(&desk, "host", "AuthorizedKeysFile .ssh/authorized_keys\nStrictModes yes");
    let address = format!("{MATE}@127.0.0.1:{}", server.port);
    desk.lantern(&["machine", "add", "lamp-01", &address]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
    let install = ["key", "install", "harbour", "lamp-01", "--no-key", "--password-from", "fd:3", "--use"];
    desk.with_secrets(&install, sshd::PASSWORD, "").expect(0);
    let list = format!("/home/{MATE}/.ssh/authorized_keys");
    let states = || -> String {
        let output = std::process::Command::new("stat")
            .args(["-c", "%U %a"])
            .arg(&list)
            .arg(format!("/home/{MATE}/.ssh"))
            .output();
        String::from_utf8(output.unwrap().stdout).unwrap()
    };
    assert_eq!(states(), format!("{MATE} 600\n{MATE} 700\n"));
    // What is there stays, whatever it is; modes are put right; a link is followed.
    let own = "# the keeper's own line\r\nssh-lamp AAAA nonsense\n";
    let old = fs::read_to_string(&list).unwrap();
    fs::write(&list, format!("{own}{old}")).unwrap();
    std::process::Command::new("chmod").args(["644", &list]).status().unwrap();
    desk.lantern(&["key", "install", "harbour", "lamp-01"]).expect(0);
    assert_eq!(fs::read_to_string(&list).unwrap(), format!("{own}{old}"));
    assert_eq!(states(), format!("{MATE} 600\n{MATE} 700\n"));
    // Limits that the server understands and keeps to.
    desk.lantern(&["key", "new", "robot", "--plain"]).expect(0);
    let limits = [
        "--limit-from",
        "127.0.0.0/8",
        "--limit-command",
        "echo only this",
        "--no-forwarding",
        "--expires",
        "2031-05-01",
    ];
    desk.lantern(&[&["key", "install", "robot", "lamp-01"][..], &limits].concat()).expect(0);
    assert_eq!(
        desk.lantern(&["run", "lamp-01", "--key", "robot", "--", "id"]).expect(0).text(),
        "only this\n"
    );
    // Rotated over another key, it stays limited; over itself nothing can be changed, and that is said.
    let err = desk.lantern(&["key", "rotate", "robot", "lamp-01"]).err;
    assert!(err.contains("limited to one"), "{err}");
    desk.lantern(&["key", "rotate", "robot", "lamp-01", "--key", "harbour"]).expect(0);
    assert_eq!(
        desk.lantern(&["run", "lamp-01", "--key", "robot-2", "--", "id"]).expect(0).text(),
        "only this\n"
    );
    desk.lantern(&["run", "lamp-01", "--key", "robot", "--no-questions", "--", "id"]).expect(249);
    desk.lantern(&["key", "withdraw", "robot-2", "lamp-01", "--yes"]).expect(0);
    let err =
        desk.lantern(&["key", "install", "robot", "lamp-01", "--limit-from", "192.0.2.0/24"]).expect(249).err;
    assert!(err.contains("the machine does not let it in"), "{err}");
    desk.lantern(&["key", "withdraw", "robot", "lamp-01", "--yes"]).expect(0);

    desk.lantern(&["key", "rotate", "harbour"]).expect(0);
    let user = format!("{MATE}\n");
    assert_eq!(desk.lantern(&["run", "lamp-01", "--no-questions", "--", "whoami"]).expect(0).text(), user);
    desk.lantern(&["run", "lamp-01", "--key", "harbour", "--no-questions", "--", "whoami"]).expect(249);
    let text = fs::read_to_string(&list).unwrap();
    assert!(text.starts_with(own) && text.lines().count() == 3, "{text}");
    // The last key goes only because the password is there to show another way in.
    desk.without_terminal(&["key", "withdraw", "harbour-2", "lamp-01", "--yes"]).expect(249);
    let words = ["key", "withdraw", "harbour-2", "lamp-01", "--yes", "--no-key", "--password-from", "fd:3"];
    desk.with_secrets(&words, sshd::PASSWORD, "").expect(0);
    assert_eq!(fs::read_to_string(&list).unwrap(), own);
    desk.lantern(&["run", "lamp-01", "--no-questions", "--", "whoami"]).expect(249);
}
