//! A session waits beside each connection that the keeper holds: the next command has its first output after one round trip.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]
#![allow(clippy::disallowed_methods)]

mod support;

use support::keeping::{connections, scene, status, until};
use support::line::{delayed, lead, visit};
use support::sshd;

/// What is counted for TCP, which there was before.
const TCP: u32 = 1;

/// A session waits at the keeper: the command leaves at once. Where the server opens one at a time only, there is none, and nothing is lost by that.
#[test]
fn a_warm_command_costs_one_round_trip() {
    let scene = scene(|_| {});
    let desk = &scene.desk;
    let (link, _light) = delayed(scene.lit.address);
    lead(desk, link.address, &scene.lit.fingerprint);
    desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    until("a session waits", || !status(desk)["connections"][0]["idle_seconds"].is_null());
    for _ in 0..3 {
        assert_eq!(visit(desk, &link, "slow 3"), TCP + 1);
        until("a session waits", || !status(desk)["connections"][0]["idle_seconds"].is_null());
    }
    assert_eq!(connections(desk), 1);
}

#[test]
fn a_warm_command_costs_one_round_trip_at_the_real_server_too() {
    for (config, expected) in [("", 1), ("MaxSessions 1", 2)] {
        let Some((desk, server, fingerprint)) = sshd::with_keeper(config, &[]) else { return };
        let (link, _light) = delayed(([127, 0, 0, 1], server.port).into());
        lead(&desk, link.address, &fingerprint);
        desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
        for _ in 0..3 {
            until("nobody to use it", || !status(&desk)["connections"][0]["idle_seconds"].is_null());
            assert_eq!(visit(&desk, &link, "echo waiting; sleep 0.5"), TCP + expected, "{config}");
        }
        assert_eq!(connections(&desk), 1, "{config}");
    }
}

/// Two sessions are all that the server opens on a connection, and the one that is opened for later comes first: it goes to whoever is refused one.
#[test]
fn the_session_that_waits_is_in_nobodys_way() {
    let Some((desk, server, fingerprint)) = sshd::with_keeper("MaxSessions 2", &[]) else { return };
    let (link, _light) = delayed(([127, 0, 0, 1], server.port).into());
    lead(&desk, link.address, &fingerprint);
    for _ in 0..3 {
        let both = ["one", "two"].map(|word| {
            let line = format!("echo {word}; sleep 1");
            desk.command(&["run", "lamp-01", "--", &line])
                .stderr(std::process::Stdio::piped())
                .spawn()
                .unwrap()
        });
        for (child, word) in both.into_iter().zip(["one", "two"]) {
            let out = child.wait_with_output().unwrap();
            assert_eq!(String::from_utf8_lossy(&out.stdout).trim(), word, "{out:?}");
            assert!(out.status.success(), "{out:?}");
        }
        assert_eq!(connections(&desk), 1);
        desk.lantern(&["keeper", "stop"]).expect(0);
        let add = ["keeper", "add", "harbour", "--passphrase-from", "fd:3"];
        desk.with_secrets(&add, "twelve green lamps", "").expect(0);
    }
}
