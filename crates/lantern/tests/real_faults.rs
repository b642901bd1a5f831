//! What went wrong with real servers, and with peers that do one thing a little differently: each told as what it is.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use support::sshd::{self, Sshd, USER};
use support::{Desk, PATIENCE, noise};

/// A desk with a user's key, and host keys of the three kinds that every server has.
fn desk() -> Option<Desk> {
    sshd::desk(&[("rsa", "rsa-3072"), ("ecdsa", "ecdsa-p256"), ("ed25519", "ed25519")])
}

const KEYS: [&str; 3] = ["rsa", "ecdsa", "ed25519"];

fn trust(desk: &Desk, server: &Sshd) {
    desk.lantern(&["machine", "add", "foghorn", &server.address]).expect(0);
    let expect = desk.public_key("ed25519").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "foghorn", "--expect", &expect]).expect(0);
}

/// Three host keys, new keys every megabyte, and visits that guess: the first one learns, the later ones guess, and all of them live
/// through every renewal, with as many of those as the volume asks for.
#[test]
fn a_server_with_three_host_keys_that_renews_is_visited_again_and_again() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start_with_keys(&desk, &KEYS, "RekeyLimit 1M");
    trust(&desk, &server);
    let log = desk.folder.path().join("log");
    for visit in 1..=4 {
        let _ = fs::remove_file(&log);
        let words = ["run", "foghorn", "--log", log.to_str().unwrap(), "--", "head -c 8000000 /dev/zero"];
        let outcome = desk.lantern(&words).expect(0);
        assert_eq!(outcome.out.len(), 8_000_000);
        let log = fs::read_to_string(&log).unwrap();
        let renewals = log.matches("new keys in use").count();
        assert!((6..30).contains(&renewals), "visit {visit}: {renewals} exchanges for 8 MB");
        // The first visit has learned the other keys too, and what the server lists first: every later one guesses, and is right.
        assert_eq!(log.contains("sent offer with a guess"), visit > 1, "visit {visit}");
        let first = log.lines().find(|line| line.contains("agreed on algorithms")).unwrap();
        assert_eq!(first.contains("guessed=true"), visit > 1, "visit {visit}: {first}");
        let data = noise(3_000_000);
        let outcome = desk.lantern_with_input(&["run", "foghorn", "--", "cat"], data.clone()).expect(0);
        assert!(outcome.out == data);
    }
}

/// The server lists the old method first; what is chosen stays the quantum-safe one at every visit.
#[test]
fn a_guess_does_not_lower_the_exchange() {
    let Some(desk) = desk() else { return };
    let methods = "KexAlgorithms curve25519-sha256,sntrup761x25519-sha512@openssh.com";
    let server = Sshd::start_with_keys(&desk, &KEYS, methods);
    trust(&desk, &server);
    for _ in 0..4 {
        let outcome = desk.lantern(&["check", "foghorn", "--json"]);
        assert!(outcome.text().contains("sntrup761x25519"), "{}", outcome.text());
        desk.lantern(&["run", "foghorn", "--", "true"]).expect(0);
    }
}

/// A program that reads one line of an endless input and ends: its output and its status arrive, every time.
#[test]
fn more_input_than_the_command_reads_is_no_failure() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start_with_keys(&desk, &KEYS, "");
    trust(&desk, &server);
    for round in 0..10 {
        let mut child = desk
            .command(&["run", "foghorn", "--", "head -n1; head -c 300000 /dev/zero; exit 7"])
            .stdin(Stdio::piped())
            .spawn()
            .unwrap();
        let mut stdin = child.stdin.take().unwrap();
        let endless = thread::spawn(move || while stdin.write_all(&b"yes\n".repeat(4096)).is_ok() {});
        let output = child.wait_with_output().unwrap();
        endless.join().unwrap();
        let err = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!((output.status.code(), output.stdout.len()), (Some(7), 300_004), "round {round}: {err}");
    }
}

#[test]
fn too_many_keys_for_the_server_is_a_login_that_failed() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start_with_keys(&desk, &["ed25519"], "MaxAuthTries 2");
    // None of these is in the list, and the one that is comes too late.
    for name in ["aaa", "bbb", "ccc"] {
        desk.lantern(&["key", "new", name, "--plain"]).expect(0);
    }
    trust(&desk, &server);
    let authorized = desk.folder.path().join(format!("sshd-{}/authorized", server.port));
    fs::write(authorized, "").unwrap();
    let outcome = desk.lantern(&["run", "foghorn", "--no-questions", "--", "true"]).expect(249);
    for words in ["did not let lampkeeper in", "the server ended the login itself", "key aaa", "--key NAME"] {
        assert!(outcome.err.contains(words), "{words}: {}", outcome.err);
    }
}

#[test]
fn a_server_that_is_busy_says_so() {
    let Some(desk) = desk() else { return };
    let server = Sshd::start_with_keys(&desk, &["ed25519"], "MaxStartups 1:100:1");
    trust(&desk, &server);
    // One visitor that never logs in takes the only place, once whoever looked whether the server is up has left it.
    let until = Instant::now() + Duration::from_secs(20);
    let _visitor = loop {
        let mut visitor = TcpStream::connect(("127.0.0.1", server.port)).unwrap();
        let mut greeting = [0; 8];
        if visitor.read_exact(&mut greeting).is_ok() && greeting == *b"SSH-2.0-" {
            break visitor;
        }
        assert!(Instant::now() < until, "no place becomes free");
    };
    let outcome = desk.lantern(&["run", "foghorn", "--no-questions", "--", "true"]);
    let told = outcome.err.contains("takes no more connections now")
        || (outcome.err.contains("before it said what it is") && outcome.err.contains("busy"));
    assert!(told && matches!(outcome.status, 244 | 246), "{} {}", outcome.status, outcome.err);
}

/// An RSA key at a server that takes only signatures with SHA-1 of it.
#[test]
fn a_server_that_is_stuck_at_sha_1_is_told_as_that() {
    let Some(desk) = desk() else { return };
    let server =
        Sshd::start_with_keys(&desk, &["ed25519"], "PubkeyAcceptedAlgorithms ssh-rsa\nRequiredRSASize 1024");
    trust(&desk, &server);
    let outcome =
        desk.lantern(&["run", "foghorn", "--key", "rsa", "--no-questions", "--", "true"]).expect(249);
    assert!(outcome.err.contains("SHA-1") && outcome.err.contains("RFC 8332"), "{}", outcome.err);
}

/// Answers one visitor with this text; closes then, or stays silent.
fn answer(text: &'static [u8], closes: bool) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let _ = stream.write_all(text);
            if !closes {
                thread::spawn(move || while stream.read(&mut [0; 4096]).is_ok_and(|len| len > 0) {});
            }
        }
    });
    format!("{USER}@{address}")
}

#[test]
fn answers_that_are_none_are_told_apart() {
    let desk = Desk::with_key();
    let cases: [(&[u8], bool, i32, &str); 6] = [
        (b"", true, 246, "closed the connection before it said what it is"),
        (b"SSH-2.0-Lam", true, 246, "in the middle of its identification"),
        (
            b"HTTP/1.1 400 Bad Request\r\n",
            false,
            246,
            "not an SSH server: it answered \"HTTP/1.1 400 Bad Request\"",
        ),
        (b"HTTP/1.1 400 Bad Request\r\n\r\n", true, 246, "not an SSH server"),
        (b"Exceeded MaxStartups\r\n", true, 244, "takes no more connections now"),
        (b"SSH-2.0-", false, 245, "while waiting for the identification"),
    ];
    for (text, closes, status, words) in cases {
        let address = answer(text, closes);
        let start = Instant::now();
        let outcome =
            desk.lantern(&["run", &address, "--handshake-limit", "1", "--no-questions", "--", "true"]);
        assert_eq!(outcome.status, status, "{}", outcome.err);
        assert!(outcome.err.contains(words), "{words}: {}", outcome.err);
        assert!(start.elapsed() < PATIENCE);
    }
}

/// A ring larger than the server's patience: what it did not hear of is named, and the way that is advised works.
#[test]
fn a_server_that_has_had_enough_of_keys_is_told_with_those_it_did_not_hear_of() {
    let Some(desk) = desk() else { return };
    for number in 1..=9 {
        desk.lantern(&["key", "new", &format!("beacon-{number}"), "--plain"]).expect(0);
    }
    let server =
        Sshd::start_with_keys(&desk, &KEYS, "PasswordAuthentication no\nKbdInteractiveAuthentication no");
    // The key that it takes comes last: the ring's order is that of names.
    desk.lantern(&["key", "rename", "harbour", "the-right-one"]).expect(0);
    trust(&desk, &server);
    let out = desk.without_terminal(&["run", "foghorn", "--", "whoami"]).expect(249);
    for words in ["the server ended the login itself", "not offered", "the-right-one", "--key NAME"] {
        assert!(out.err.contains(words), "{words}: {}", out.err);
    }
    desk.lantern(&["run", "--key", "the-right-one", "foghorn", "--", "true"]).expect(0);
    // From now on it comes first.
    desk.lantern(&["run", "foghorn", "--", "true"]).expect(0);
}
