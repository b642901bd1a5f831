//! Passwords of machines of Windows that the keeper holds: proven, given, forgotten.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::time::Duration;

use support::line::lay;
use support::sshd::{self, Sshd, USER};
use support::windows::{PASSWORD, Windows, chart_room, desk_for, trust};
use support::{Desk, Screen};

struct Stops<'d>(&'d Desk);

impl Drop for Stops<'_> {
    fn drop(&mut self) {
        self.0.lantern(&["keeper", "stop"]);
    }
}

#[test]
fn a_password_is_proven_held_given_and_forgotten() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let _stops = Stops(&desk);
    trust(&desk, &windows);
    let remember = ["keeper", "remember", "chart-room", "--password-from", "fd:3"];
    // A wrong one is never held.
    let refused = desk.with_secrets(&remember, "low water", "").expect(249);
    assert!(refused.err.contains("did not let keeper in"), "{}", refused.err);
    let hostname = ["run", "chart-room", "--no-questions", "--", "hostname"];
    desk.lantern(&hostname).expect(249);
    desk.with_secrets(&remember, PASSWORD, "").expect(0);
    assert_eq!(windows.seen().shells, 0);
    desk.lantern(&hostname).expect(0);
    desk.lantern(&["check", "chart-room", "--no-questions"]).expect(0);
    desk.lantern(&["machine", "add", "log-room", "192.0.2.1"]).expect(0);
    let status = desk.lantern(&["keeper", "status"]).expect(0);
    assert!(
        status.text().contains("PASSWORD FOR") && status.text().contains("chart-room"),
        "{}",
        status.text()
    );
    let alone = ["run", "chart-room", "--no-agent", "--no-questions", "--", "hostname"];
    desk.lantern(&alone).expect(249);
    // It is another's: nobody else is given it.
    desk.lantern(&["run", "chart-room", "--user", "warden", "--no-questions", "--", "hostname"]).expect(249);

    // Locked, it is not told; open again, it is.
    let passphrase = ["keeper", "lock", "--passphrase-from", "fd:3"];
    desk.with_secrets(&passphrase, "reef", "").expect(0);
    desk.lantern(&hostname).expect(249);
    assert!(!desk.lantern(&["keeper", "status"]).text().contains("chart-room"));
    desk.with_secrets(&["keeper", "unlock", "--passphrase-from", "fd:3"], "reef", "").expect(0);
    desk.lantern(&hostname).expect(0);

    desk.lantern(&["keeper", "forget", "--passwords-of", "chart-room"]).expect(0);
    desk.lantern(&["keeper", "forget", "--passwords-of", "chart-room"]).expect(241);
    desk.lantern(&hostname).expect(249);
    // For a time.
    let short = [&remember[..], &["--lifetime", "1s", "--json"]].concat();
    let told: serde_json::Value =
        serde_json::from_str(desk.with_secrets(&short, PASSWORD, "").expect(0).text()).unwrap();
    let promised =
        serde_json::json!({"machine": "chart-room", "user": "keeper", "seconds_left": 1, "proven": true});
    assert_eq!(told, promised);
    std::thread::sleep(Duration::from_millis(1100));
    desk.lantern(&hostname).expect(249);
    desk.with_secrets(&remember, PASSWORD, "").expect(0);
    desk.lantern(&["keeper", "forget", "--all"]).expect(0);
    desk.lantern(&hostname).expect(249);
}

/// Accounts lock: a password that was right once is not tried at every visit when it is not any more.
#[test]
fn a_password_that_is_refused_is_forgotten_at_once() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let _stops = Stops(&desk);
    let lead_to = |machine: &Windows| {
        desk.lantern(&["machine", "set", "chart-room", &format!("port={}", machine.address.port())])
            .expect(0);
        desk.lantern(&["trust", "accept", "chart-room", "--expect", &machine.fingerprint]).expect(0);
    };
    let run = ["run", "chart-room", "--no-questions", "--", "hostname"];
    for words in [&run[..], &["check", "chart-room", "--no-questions"]] {
        lead_to(&windows);
        let remember = ["keeper", "remember", "chart-room", "--password-from", "fd:3"];
        desk.with_secrets(&remember, PASSWORD, "").expect(0);
        let changed = Windows::light({
            let mut spec = chart_room();
            spec.users[0].password = lantern_keys::SecretString::new("spring tide".into());
            spec
        });
        lead_to(&changed);
        let refused = desk.lantern(words).expect(249);
        assert!(refused.err.contains("it has forgotten it"), "{}", refused.err);
        desk.lantern(words).expect(249);
        assert_eq!(changed.seen().refused, 1, "{words:?}");
    }
}

#[test]
fn it_is_asked_for_at_a_terminal() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let _stops = Stops(&desk);
    trust(&desk, &windows);
    let mut screen = Screen::open(&desk, &["keeper", "remember", "chart-room"]);
    screen.wait_for("Password");
    screen.send(&format!("{PASSWORD}\r"));
    screen.wait_for("after it let us in with that");
    assert_eq!(screen.wait_for_exit(), 0);
    let mut screen = Screen::open(&desk, &["keeper", "remember", "chart-room"]);
    screen.wait_for("Password");
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 252, "{}", screen.text());
}

#[test]
fn a_real_gateway_before_it_is_passed_once_with_a_keeper_and_logins_stay_its_own() {
    let Some(desk) = sshd::desk(&[("host", "ed25519")]) else { return };
    let windows = Windows::light(chart_room());
    let server = Sshd::start(&desk, "host", "");
    let (cable, _light) = lay(([127, 0, 0, 1], server.port).into());
    let gate = format!("{USER}@127.0.0.1:{}", cable.address.port());
    desk.lantern(&["machine", "add", "gate", &gate]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "gate", "--expect", &fingerprint]).expect(0);
    let (address, port) = (windows.address.ip().to_string(), format!("port={}", windows.address.port()));
    let words =
        ["machine", "add", "chart-room", &address, &port, "protocol=winrm", "user=keeper", "gateway=gate"];
    desk.lantern(&words).expect(0);
    trust(&desk, &windows);
    let hostname = || support::windows::run(&desk, &["--", "hostname"]).expect(0);
    let before = cable.connections();
    let passed = || cable.connections() - before;
    assert_eq!((hostname().text().trim(), passed()), ("CHART-ROOM", 1));
    hostname();
    assert_eq!(passed(), 2, "each its own without a keeper");
    let _stops = Stops(&desk);
    desk.lantern(&["keeper", "start"]).expect(0);
    for _ in 0..2 {
        hostname();
    }
    assert_eq!((passed(), windows.seen().logins), (3, 4));
    let check = ["check", "chart-room", "--no-questions", "--password-from", "fd:3"];
    desk.with_secrets(&check, PASSWORD, "").expect(0);
    assert_eq!(passed(), 3);
    // A gateway that is gone is told as that, whoever logs in to it.
    desk.lantern(&["keeper", "forget", "--all"]).expect(0);
    drop(server);
    cable.cut();
    for more in [&[][..], &["--no-share"]] {
        let outcome = support::windows::run(&desk, &[more, &["--", "hostname"]].concat());
        assert!(outcome.status != 0 && outcome.err.contains("gate"), "{} {}", outcome.status, outcome.err);
    }
}
