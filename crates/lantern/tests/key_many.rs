//! Keys put on many machines at once, on simulated machines: what hangs, what must be asked, and who is told a password.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{Fault, LoginRule, MachineSpec};
use lantern_keys::{SecretString, login_list};
use serde_json::Value;
use support::fleet::light_fleet;
use support::{Desk, Lit, Screen};

const PASSWORD: &str = "low visibility";

fn fleet(count: usize, change: impl Fn(usize, &mut MachineSpec)) -> (Desk, Vec<Lit>) {
    light_fleet("first", count, change)
}

fn has(desk: &Desk, lit: &Lit, key: &str) -> bool {
    login_list::keys(&lit.lit.logins("keeper")).iter().any(|line| line.key == desk.public_key(key))
}

fn only_by_password(spec: &mut MachineSpec, password: &str) {
    spec.users[0].keys.clear();
    spec.users[0].password = Some(SecretString::new(password.to_owned()));
}

/// One that never answers is told as what it is, and the others have their key long before.
#[test]
fn a_machine_that_hangs_holds_up_no_other() {
    let (desk, lit) = fleet(40, |number, spec| {
        if number == 1 {
            spec.fault = Some(Fault::StallAfter(0));
        }
    });
    desk.lantern(&["key", "new", "second", "--plain"]).expect(0);
    let words = ["key", "install", "second", "lamp-*", "--yes", "--handshake-limit", "3"];
    let went = desk.lantern(&words).expect(245);
    assert!(went.err.contains("1 of 40 machines failed"), "{}", went.err);
    let (hangs, last) = (went.err.find("error: ").unwrap(), went.err.rfind("is installed").unwrap());
    assert!(last < hangs, "{}", went.err);
    assert!(!has(&desk, &lit[0], "second") && lit[1..].iter().all(|lit| has(&desk, lit, "second")));
    // Each is noted in the ring, also where many end at the same time.
    let shown = desk.lantern(&["key", "show", "second"]).expect(0);
    assert_eq!(shown.text().matches(" as keeper since ").count(), 39, "{}", shown.text());

    // The same goes for taking it out, in the order of their names.
    let words = ["key", "withdraw", "second", "lamp-*", "--except", "lamp-1", "--yes", "--json"];
    let went = desk.lantern(&words).expect(0);
    let values: Vec<Value> = serde_json::from_str(went.text()).unwrap();
    let names: Vec<&str> = values.iter().map(|value| value["machine"].as_str().unwrap()).collect();
    assert_eq!((names.len(), names[0], names[38]), (39, "lamp-2", "lamp-40"));
    assert!(lit.iter().all(|lit| !has(&desk, lit, "second")));
}

/// Those that want no answer are done at once; the others are asked for one after the other, each once.
#[test]
fn whoever_must_be_asked_is_asked_at_the_end_and_one_at_a_time() {
    let (desk, lit) = fleet(4, |number, spec| match number {
        2 => only_by_password(spec, "fog"),
        3 => only_by_password(spec, "spray"),
        _ => {}
    });
    desk.lantern(&["key", "new", "second", "--plain"]).expect(0);
    let mut screen = Screen::open(&desk, &["key", "install", "second", "lamp-*", "--yes"]);
    let seen = screen.wait_for("assword");
    for name in ["lamp-1", "lamp-4"] {
        assert!(seen.contains(&format!("is installed for keeper on {name}")), "{seen}");
    }
    assert!(!seen.contains("lamp-3"), "{seen}");
    screen.send("fog\r");
    screen.wait_until("the second question", |text| text.matches("assword").count() == 2);
    screen.send("spray\r");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    assert!(lit.iter().all(|lit| has(&desk, lit, "second")));
}

/// The passphrase of a key opens it for all of them.
#[test]
fn a_passphrase_is_asked_for_once() {
    let (desk, lit) = fleet(12, |_, _| {});
    let words = ["key", "passphrase", "first", "--new-passphrase-from", "fd:3"];
    desk.with_secrets(&words, "brass and glass", "").expect(0);
    desk.lantern(&["key", "new", "second", "--plain"]).expect(0);
    let mut screen = Screen::open(&desk, &["key", "install", "second", "lamp-*", "--yes", "--no-agent"]);
    screen.wait_for("Passphrase of the key first");
    screen.send("brass and glass\r");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    assert_eq!(screen.text().matches("Passphrase of").count(), 1);
    assert!(lit.iter().all(|lit| has(&desk, lit, "second")));
}

/// Machines behind one gateway are reached through one login there, and each proves its key by logins of its own.
#[test]
fn the_gateway_on_the_way_is_logged_in_to_once() {
    let (desk, lit) = fleet(8, |number, spec| match number {
        1 => spec.gateway = true,
        number => spec.inner_address = Some(format!("10.77.9.{number}")),
    });
    for number in 2..=8 {
        let (name, address) = (format!("lamp-{number}"), format!("address=10.77.9.{number}"));
        desk.lantern(&["machine", "set", &name, &address, "port=22", "gateway=lamp-1"]).expect(0);
    }
    desk.lantern(&["key", "new", "second", "--plain"]).expect(0);
    let log = desk.folder.path().join("log");
    let words = ["key", "install", "second", "lamp-*", "--except", "lamp-1", "--yes", "--log"];
    desk.lantern(&[&words[..], &[log.to_str().unwrap()]].concat()).expect(0);
    assert!(lit[1..].iter().all(|lit| has(&desk, lit, "second")));
    let logged_in = std::fs::read_to_string(&log).unwrap().matches("login is complete").count();
    assert_eq!(logged_in, 1 + 7 * 2);
    // One of them itself, it proves its own as well.
    std::fs::remove_file(&log).unwrap();
    let words = ["key", "install", "second", "lamp-*", "--yes", "--log", log.to_str().unwrap()];
    desk.lantern(&words).expect(0);
    assert!(has(&desk, &lit[0], "second"));
    let logged_in = std::fs::read_to_string(&log).unwrap().matches("login is complete").count();
    assert_eq!(logged_in, 1 + 8 * 2);
    let words = ["key", "withdraw", "first", "lamp-*", "--key", "second", "--yes"];
    desk.lantern(&words).expect(0);
    assert!(lit.iter().all(|lit| !has(&desk, lit, "first")));
    // Its own key changes when nobody is on the way through it any more.
    let words = ["key", "rotate", "second", "lamp-*", "--to", "third", "--yes"];
    let went = desk.lantern(&words).expect(0);
    assert_eq!(went.err.lines().filter(|line| line.ends_with("third is in, second is out.")).count(), 8);
    assert!(went.err.rfind("lamp-1: ").unwrap() > went.err.rfind("lamp-8: ").unwrap(), "{}", went.err);
}

/// What was handed over is for the machines that were named. One on the way to them that asks for a password as well is not told it.
#[test]
fn a_password_for_many_is_not_told_to_the_gateway_on_the_way() {
    let (desk, lit) = fleet(4, |number, spec| match number {
        1 => {
            spec.gateway = true;
            only_by_password(spec, PASSWORD);
        }
        number => {
            spec.inner_address = Some(format!("10.77.9.{number}"));
            only_by_password(spec, PASSWORD);
        }
    });
    for number in 2..=4 {
        let (name, address) = (format!("lamp-{number}"), format!("address=10.77.9.{number}"));
        desk.lantern(&["machine", "set", &name, &address, "port=22", "gateway=lamp-1"]).expect(0);
    }
    let run = ["run", "lamp-*", "--except", "lamp-1", "--password-from", "fd:3", "--", "whoami"];
    let went = desk.with_secrets(&run, PASSWORD, "").expect(249);
    assert!(went.err.contains("3 not reached") && went.err.contains("lamp-1"), "{}", went.err);
    let check = ["check", "lamp-*", "--except", "lamp-1", "--password-from", "fd:3"];
    assert_ne!(desk.with_secrets(&check, PASSWORD, "").status, 0);
    // Named itself, it is one of them, also by its place.
    let place = format!("keeper@{},lamp-2", lit[0].address);
    let run = ["run", &place, "--password-from", "fd:3", "--", "whoami"];
    let went = desk.with_secrets(&run, PASSWORD, "").expect(0);
    assert!(went.err.contains("2 machines: 2 succeeded."), "{}", went.err);
    let run = ["run", "lamp-*", "--password-from", "fd:3", "--", "whoami"];
    let went = desk.with_secrets(&run, PASSWORD, "").expect(0);
    assert!(went.err.contains("4 machines: 4 succeeded."), "{}", went.err);
}

/// A wrong password is tried once on each, also where a machine asks for it in its own words.
#[test]
fn a_wrong_password_is_not_said_twice_to_one_machine() {
    let (desk, _lit) = fleet(2, |number, spec| {
        if number == 1 {
            only_by_password(spec, PASSWORD);
            spec.users[0].rule = LoginRule::AnyOf(vec!["keyboard-interactive"]);
        }
    });
    let log = desk.folder.path().join("log");
    let words = ["run", "lamp-*", "--password-from", "fd:3", "--log", log.to_str().unwrap(), "--", "whoami"];
    let went = desk.with_secrets(&words, "wrong", "").expect(1);
    assert!(went.err.contains("1 succeeded") && went.err.contains("1 not reached"), "{}", went.err);
    // Asked again, nobody answers.
    let log = std::fs::read_to_string(log).unwrap();
    assert_eq!(log.matches("asked prompts=1").count(), 2, "{log}");
}
