//! From nothing to the first output in as few round trips as can be: the session opens with the login, and the command leaves with both, where earlier
//! visits say that it works. Where it does not, nothing is lost by it, and it is not tried again.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]
#![allow(clippy::disallowed_methods)]

mod support;

use std::fs;

use lantern_harbour::{Cable, Fault, LoginRule, MachineSpec};
use lantern_keys::SecretString;
use support::line::{delayed, lay, lead, visit};
use support::sshd::{self, PASSWORD, Sshd};
use support::{Desk, light, machine};

/// A machine of the real server, which lets the key in.
fn real(config: &str) -> Option<(Desk, Sshd, String)> {
    let desk = sshd::desk(&[("host", "ed25519")])?;
    let server = Sshd::start(&desk, "host", config);
    desk.lantern(&["machine", "add", "lamp-01", &server.address, "key=harbour"]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    Some((desk, server, fingerprint))
}

fn hint(desk: &Desk) -> String {
    fs::read_to_string(desk.home().join("hints/lamp-01")).unwrap()
}

#[test]
fn a_known_machine_costs_three_round_trips() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let (link, _light) = delayed(lit.address);
    lead(&desk, link.address, &lit.fingerprint);
    let visits: Vec<u32> = (0..5).map(|_| visit(&desk, &link, "slow 2")).collect();
    // The first knows nothing; the next ones know what the server lists, that it takes the key, and then how it numbers.
    assert_eq!(visits[1..], [4, 4, 3, 3], "{visits:?}");
    assert!(visits[0] > 4, "{visits:?}");
    assert!(hint(&desk).ends_with("number 0 2\n"), "{}", hint(&desk));
    // What has no program of its own to start, and what asks for more, is as it was.
    desk.lantern(&["check", "lamp-01"]).expect(0);
    assert_eq!(
        desk.lantern(&["run", "lamp-01", "--", "fail", "3"]).expect(3).err,
        "the lamp is out of oil\n"
    );
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "no-such-program"]).expect(127).out, b"");
    let big = support::noise(400_000);
    assert!(desk.lantern_with_input(&["run", "lamp-01", "--", "cat"], big.clone()).expect(0).out == big);
}

#[test]
fn the_real_server_takes_all_of_it_in_one_flight() {
    let Some((desk, server, fingerprint)) = real("") else { return };
    let (link, _light) = delayed(([127, 0, 0, 1], server.port).into());
    lead(&desk, link.address, &fingerprint);
    let visits: Vec<u32> = (0..5).map(|_| visit(&desk, &link, "echo lit; sleep 0.3")).collect();
    assert_eq!(visits[1..], [4, 4, 3, 3], "{visits:?}");
    let told = desk.lantern(&["run", "lamp-01", "--", "echo $LANG; cat"]).expect(0);
    assert_eq!(told.text(), "\n");
    desk.lantern(&["machine", "set", "lamp-01", "environment.LANG=C.UTF-8"]).expect(0);
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "echo $LANG"]).expect(0).text(), "C.UTF-8\n");
    // Its terminal, too.
    let mut screen = support::Screen::open(&desk, &["shell", "lamp-01"]);
    screen.wait_for("ready> ");
    screen.send("stty size; exit 4\r");
    screen.wait_for("24 100");
    assert_eq!(screen.wait_for_exit(), 4);
}

/// Every visit works, and how many connections they took in all.
fn visits(desk: &Desk, cable: &Cable, count: usize, run: impl Fn() -> support::Outcome) -> u64 {
    let before = cable.connections();
    for _ in 0..count {
        let outcome = run().expect(0);
        assert_eq!((outcome.out.as_slice(), outcome.err.as_str()), (&b"keeper\n"[..], ""), "{}", hint(desk));
    }
    cable.connections() - before
}

#[test]
fn a_server_that_numbers_anew_costs_a_second_connection_once_at_most() {
    let desk = Desk::with_key();
    let mut spec = machine("lamp-01", &desk.public_key("harbour"));
    spec.numbers_anew = true;
    let lit = light(spec);
    desk.add(&lit);
    let (cable, _light) = lay(lit.address);
    lead(&desk, cable.address, &lit.fingerprint);
    let run = || desk.lantern(&["run", "lamp-01", "--", "whoami"]);
    assert_eq!(visits(&desk, &cable, 5, run), 5);
    assert!(hint(&desk).ends_with("changing\n"), "{}", hint(&desk));
    // As if it had been the same until now.
    let forged = hint(&desk).replace("changing", "number 0 2");
    fs::write(desk.home().join("hints/lamp-01"), forged).unwrap();
    assert_eq!(visits(&desk, &cable, 3, run), 4, "one too many, and the command ran once each time");
    assert!(hint(&desk).ends_with("changing\n"), "{}", hint(&desk));
}

/// RFC 4252 §6: a server may end the connection when something comes before the login is complete. Ours does.
#[test]
fn a_server_that_hangs_up_is_met_without_from_then_on() {
    let desk = Desk::with_key();
    let mut spec = machine("lamp-01", &desk.public_key("harbour"));
    let rule = LoginRule::InTurn(vec!["publickey", "password"]);
    spec.users[0].password = Some(SecretString::new("low visibility".into()));
    let both = lantern_harbour::UserSpec { rule, ..spec.users[0].clone() };
    let lit = light(spec.clone());
    desk.add(&lit);
    lead(&desk, lit.address, &lit.fingerprint);
    for _ in 0..4 {
        desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    }
    assert!(hint(&desk).ends_with("number 0 2\n"));
    // From today on it wants a password as well.
    spec.users = vec![both];
    let lit = light(spec);
    let (cable, _light) = lay(lit.address);
    lead(&desk, cable.address, &lit.fingerprint);
    let run = || {
        let words = ["run", "lamp-01", "--password-from", "fd:3", "--", "whoami"];
        desk.with_secrets(&words, "low visibility", "")
    };
    assert_eq!(visits(&desk, &cable, 1, run), 2, "with, and without");
    assert!(hint(&desk).contains("unwelcome SHA256:"), "{}", hint(&desk));
    assert_eq!(visits(&desk, &cable, 3, run), 3);
}

/// A command that has left with the login may run although nothing is heard of it any more: wherever the line is cut, it is not sent again, and whether
/// it ran is not known. The next visit sends it with nothing before it is asked for.
#[test]
fn a_line_that_is_cut_anywhere_runs_no_command_twice() {
    let desk = Desk::with_key();
    let spec = machine("lamp-01", &desk.public_key("harbour"));
    let lit = light(spec.clone());
    desk.add(&lit);
    let (cable, _light) = lay(lit.address);
    lead(&desk, cable.address, &lit.fingerprint);
    for _ in 0..4 {
        desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    }
    let (sure, mut codes) = (hint(&desk), Vec::new());
    assert!(sure.ends_with("number 0 2\n"), "{sure}");
    for after in (50..4000).step_by(60) {
        let lit = light(MachineSpec { fault: Some(Fault::CutAfter(after)), ..spec.clone() });
        cable.cut();
        cable.mend(lit.address);
        fs::write(desk.home().join("hints/lamp-01"), &sure).unwrap();
        let before = cable.connections();
        let outcome = desk.lantern(&["run", "lamp-01", "--", "whoami"]);
        assert_eq!(cable.connections() - before, 1, "cut after {after}: {outcome:?}");
        codes.push(outcome.status);
        if outcome.status == 251 {
            assert!(outcome.err.contains("the connection to lamp-01 was lost"), "{outcome:?}");
        }
    }
    codes.dedup();
    assert!(codes.contains(&251) && codes.last() == Some(&0), "{codes:?}");
}

/// The real server answers that it has nothing to open, and goes on: with the password that it wants, or with another key.
#[test]
fn a_login_that_is_not_enough_goes_on_on_the_same_connection() {
    let Some((desk, server, fingerprint)) = real("") else { return };
    lead(&desk, ([127, 0, 0, 1], server.port).into(), &fingerprint);
    for _ in 0..4 {
        desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    }
    let sure = hint(&desk);
    assert!(sure.ends_with("number 0 2\n"), "{sure}");
    let both = Sshd::start(&desk, "host", "AuthenticationMethods publickey,password");
    let (cable, _light) = lay(([127, 0, 0, 1], both.port).into());
    lead(&desk, cable.address, &fingerprint);
    let run = || {
        let words = ["run", "lamp-01", "--password-from", "fd:3", "--", "echo keeper"];
        desk.with_secrets(&words, PASSWORD, "")
    };
    assert_eq!(visits(&desk, &cable, 3, run), 3);
    assert!(hint(&desk).contains("unwelcome SHA256:"), "{}", hint(&desk));
    // The key that it took is no good any more; another one is.
    fs::write(desk.home().join("hints/lamp-01"), &sure).unwrap();
    desk.lantern(&["key", "new", "spare", "--plain"]).expect(0);
    desk.lantern(&["machine", "set", "lamp-01", "key=harbour,spare"]).expect(0);
    let other = Sshd::start(&desk, "host", "");
    let keys = desk.folder.path().join(format!("sshd-{}/authorized", other.port));
    fs::write(keys, desk.lantern(&["key", "show", "spare", "--line"]).expect(0).out).unwrap();
    let (cable, _light) = lay(([127, 0, 0, 1], other.port).into());
    lead(&desk, cable.address, &fingerprint);
    let run = || desk.lantern(&["run", "lamp-01", "--", "echo keeper"]);
    assert_eq!(visits(&desk, &cable, 4, run), 4);
    assert!(hint(&desk).ends_with("number 0 2\n"), "with the new key it goes on: {}", hint(&desk));
}

#[test]
fn a_server_that_opens_no_session_says_so_as_before() {
    let Some((desk, server, fingerprint)) = real("") else { return };
    lead(&desk, ([127, 0, 0, 1], server.port).into(), &fingerprint);
    let run = || desk.lantern(&["run", "lamp-01", "--", "echo keeper"]);
    for _ in 0..4 {
        run().expect(0);
    }
    for (config, status) in [("MaxSessions 1", 0), ("MaxSessions 0", 250)] {
        let other = Sshd::start(&desk, "host", config);
        lead(&desk, ([127, 0, 0, 1], other.port).into(), &fingerprint);
        for _ in 0..2 {
            run().expect(status);
        }
    }
}
