//! Advice, each by its cause: what a message says to do is what the cause needs, and it works.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;

use lantern_harbour::{Fault, LoginRule, MachineSpec, UserSpec};
use support::{Desk, Screen, light, machine};

#[track_caller]
fn has(text: &str, wanted: &[&str]) {
    // A message may go on in the next line.
    let flat = text.split_whitespace().collect::<Vec<_>>().join(" ");
    for words in wanted {
        assert!(flat.contains(words), "{words}: {text}");
    }
}

/// A machine of the book with something wrong with it.
fn faulty(desk: &Desk, fault: Fault) -> support::Lit {
    let lit = light(MachineSpec { fault: Some(fault), ..machine("lamp-01", &desk.public_key("harbour")) });
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", lit.address)]).expect(0);
    lit
}

/// A ring of twenty-five keys, of which the machine takes the last: it is not offered, and that is told with the way out.
#[test]
fn keys_that_were_not_offered_are_named_and_the_next_time_the_right_one_comes_first() {
    let desk = Desk::new();
    for number in 1..=25 {
        desk.lantern(&["key", "new", &format!("beacon-{number}"), "--plain"]).expect(0);
    }
    let spec = |rule| {
        let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![desk.public_key("beacon-25")]);
        keeper.rule = LoginRule::AnyOf(rule);
        MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-01", 1).unwrap() }
    };
    let lit = light(spec(vec!["publickey"]));
    desk.add(&lit);
    let out = desk.lantern(&["run", "lamp-01", "whoami"]).expect(249);
    has(
        &out.err,
        &[
            "not offered",
            "beacon-25",
            "lantern shell lamp-01 --key NAME",
            "lantern machine set lamp-01 key=NAME",
        ],
    );
    // As the message says: this once, and from then on it is known what the machine takes.
    desk.lantern(&["run", "--key", "beacon-25", "lamp-01", "whoami"]).expect(0);
    let out = desk.lantern(&["run", "--log", "log", "lamp-01", "whoami"]).expect(0);
    assert_eq!(out.text(), "keeper\n");
    // What the ring knows as installed there comes early too, without having been used.
    let lit = light(spec(vec!["publickey", "password", "keyboard-interactive"]));
    desk.lantern(&["machine", "add", "lamp-02", &format!("keeper@{}", lit.address)]).expect(0);
    desk.lantern(&["trust", "accept", "lamp-02", "--expect", &lit.fingerprint]).expect(0);
    let words = ["key", "install", "beacon-24", "lamp-02", "--no-key", "--password-from", "fd:3"];
    desk.with_secrets(&words, "low visibility", "").expect(0);
    fs::remove_dir_all(desk.home().join("uses")).unwrap();
    desk.lantern(&["run", "lamp-02", "whoami"]).expect(0);
}

/// Where a password is asked for, it is said why.
#[test]
fn a_password_prompt_says_which_keys_were_refused() {
    let desk = Desk::with_key();
    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![]);
    keeper.rule = LoginRule::AnyOf(vec!["publickey", "password"]);
    let lit = light(MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-01", 1).unwrap() });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["run", "lamp-01", "whoami"]);
    has(&screen.wait_for("Password of keeper"), &["lamp-01 did not take the key harbour."]);
    screen.send("low visibility\r");
    assert_eq!(screen.wait_for_exit(), 0);
    let mut screen = Screen::open(&desk, &["run", "--no-key", "lamp-01", "whoami"]);
    has(&screen.wait_for("Password of keeper"), &["No key was offered to lamp-01."]);
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 252);
}

#[test]
fn an_empty_ring_is_told_as_such_with_the_ways_to_a_key() {
    let desk = Desk::new();
    let elsewhere = Desk::with_key();
    let lit = light(machine("lamp-01", &elsewhere.public_key("harbour")));
    desk.add(&lit);
    let out = desk.without_terminal(&["run", "lamp-01", "whoami"]).expect(249);
    let file = elsewhere.home().join("keys/harbour.key");
    has(
        &out.err,
        &[
            "no key was offered: the ring is empty",
            "lantern key import FILE",
            "lantern key new NAME && lantern key install NAME lamp-01",
        ],
    );
    assert!(!out.err.contains("right user"), "{}", out.err);
    let check = desk.lantern(&["check", "lamp-01"]).expect(249);
    has(check.text(), &["the ring is empty", "lantern key import FILE"]);
    // Followed, it works.
    desk.lantern(&["key", "import", file.to_str().unwrap(), "--name", "harbour", "--plain"]).expect(0);
    desk.lantern(&["run", "lamp-01", "whoami"]).expect(0);
}

#[test]
fn an_image_in_the_book_gives_the_user_and_so_does_the_system() {
    let desk = Desk::with_key();
    let admin = UserSpec::new("admin", None, vec![desk.public_key("harbour")]);
    let root = UserSpec::new(&whoami(), None, vec![desk.public_key("harbour")]);
    let lit = light(MachineSpec { users: vec![admin, root], ..MachineSpec::new("lamp-01", 1).unwrap() });
    let place = lit.address.to_string();
    desk.lantern(&["machine", "add", "lamp-01", &place]).expect(0);
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &lit.fingerprint]).expect(0);
    let without_user = || {
        let mut command = desk.command(&["run", "lamp-01", "whoami"]);
        let out: support::Outcome = command.env_remove("USER").output().unwrap().into();
        out.expect(0).text().trim().to_owned()
    };
    assert_eq!(without_user(), whoami());
    desk.lantern(&["machine", "set", "lamp-01", "image=debian-12"]).expect(0);
    assert_eq!(without_user(), "admin");
    has(desk.lantern(&["check", "lamp-01"]).expect(0).text(), &["user admin"]);
}

/// Who we are by the system's list of users.
fn whoami() -> String {
    let out = std::process::Command::new("id").arg("-un").output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().to_owned()
}

#[test]
fn another_entry_of_the_same_host_that_works_is_pointed_to() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    desk.lantern(&["run", "lamp-01", "whoami"]).expect(0);
    desk.lantern(&["machine", "add", "lamp-again", &format!("warden@{}", lit.address)]).expect(0);
    desk.lantern(&["trust", "accept", "lamp-again", "--expect", &lit.fingerprint]).expect(0);
    let advice = [
        "the book has the same machine as lamp-01",
        "as keeper with the key harbour worked",
        "lantern shell lamp-01",
    ];
    has(&desk.lantern(&["run", "lamp-again", "whoami"]).expect(249).err, &advice);
    has(desk.lantern(&["check", "lamp-again"]).expect(249).text(), &advice);
    // One machine by two names is no clash of keys.
    let audit = desk.lantern(&["trust", "audit"]).expect(1);
    has(audit.text(), &["twice", "lantern machine show lamp-01,lamp-again"]);
    assert!(!audit.text().contains("make new host keys"), "{}", audit.text());
}

/// An address that leads to another machine than it did, met without a person and by a check.
#[test]
fn a_key_that_is_known_as_anothers_is_told_as_that() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    desk.lantern(&["machine", "add", "lamp-02", &format!("keeper@{}", lit.address)]).expect(0);
    let whose = ["this is the key of lamp-01: is the address right?"];
    has(&desk.without_terminal(&["run", "lamp-02", "whoami"]).expect(248).err, &whose);
    has(desk.lantern(&["check", "lamp-02"]).expect(248).text(), &whose);
    desk.lantern(&["machine", "set", "lamp-02", "trust=known-only"]).expect(0);
    has(&desk.lantern(&["run", "lamp-02", "whoami"]).expect(248).err, &whose);
    desk.lantern(&["machine", "set", "lamp-02", "trust=first-use"]).expect(0);
    has(&desk.lantern(&["run", "lamp-02", "whoami"]).expect(0).err, &whose);
}

#[test]
fn a_firewall_rule_is_for_our_own_address_or_for_a_clear_blank() {
    let desk = Desk::with_key();
    let _lit = faulty(&desk, Fault::Filtered);
    let out = desk.lantern(&["check", "lamp-01", "--connect-limit", "1"]).expect(245);
    has(out.text(), &["which it sees as 127.0.0.1:", "sudo ufw allow proto tcp from 127.0.0.1 to any port"]);
    assert!(!out.text().contains("203.0.113"), "{}", out.text());
}

#[test]
fn a_port_that_takes_connections_and_says_nothing_is_told_as_that() {
    let desk = Desk::with_key();
    let _lit = faulty(&desk, Fault::Silent);
    let out = desk.lantern(&["check", "lamp-01", "--handshake-limit", "1"]).expect(245);
    has(out.text(), &["takes connections on that port and says nothing", "--handshake-limit 120"]);
    assert!(!out.text().contains("too many connections"), "{}", out.text());
    let out = desk.lantern(&["run", "lamp-01", "--handshake-limit", "1", "--", "id"]).expect(245);
    has(&out.err, &["takes connections on that port and says nothing", "--handshake-limit SECONDS"]);
}

#[test]
fn a_private_key_that_others_may_read_is_not_used_unless_somebody_says_so_once() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let key = desk.home().join("keys/harbour.key");
    let set = |mode| fs::set_permissions(&key, fs::Permissions::from_mode(mode)).unwrap();
    let file = key.to_str().unwrap();
    set(0o640);
    for words in [&["--key", "harbour"][..], &["--key", file]] {
        let words = [&["run"], words, &["lamp-01", "whoami"]].concat();
        has(
            &desk.lantern(&words).expect(241).err,
            &["others on this computer may read", "(mode 0640)", "chmod 600", "--anyway"],
        );
        let words = [&["run", "--anyway"], &words[1..]].concat();
        desk.lantern(&words).expect(0);
    }
    // One of a whole ring is left out, and named when nothing else was let in.
    let out = desk.lantern(&["run", "lamp-01", "whoami"]).expect(249);
    has(&out.err, &["harbour.key was not offered: others on this computer may read it", "chmod 600"]);
    set(0o600);
    desk.lantern(&["run", "lamp-01", "whoami"]).expect(0);
}

#[test]
fn a_private_file_that_is_gone_is_missed() {
    let desk = Desk::with_key();
    desk.lantern(&["machine", "add", "lamp-01", "192.0.2.7", "--key", "harbour"]).expect(0);
    let key = desk.home().join("keys/harbour.key");
    let kept = desk.folder.path().join("kept.key");
    fs::rename(&key, &kept).unwrap();
    has(desk.lantern(&["key", "list"]).expect(0).text(), &["harbour", "private file gone", "lamp-01"]);
    has(desk.lantern(&["key", "list", "--json"]).expect(0).text(), &["\"error\": \"private file gone\""]);
    has(
        desk.lantern(&["key", "audit"]).expect(1).text(),
        &["only its public half is left", "lantern key remove harbour"],
    );
    has(
        &desk.lantern(&["key", "show", "harbour"]).expect(241).err,
        &["the private file of harbour is gone", "put back there", "lantern key remove harbour"],
    );
    // Either way works.
    fs::copy(&kept, &key).unwrap();
    fs::set_permissions(&key, fs::Permissions::from_mode(0o600)).unwrap();
    desk.lantern(&["key", "show", "harbour"]).expect(0);
    fs::remove_file(&key).unwrap();
    desk.lantern(&["key", "remove", "harbour", "--yes"]).expect(0);
    assert_eq!(desk.lantern(&["key", "list", "--json"]).expect(0).text().trim(), "[]");
}

/// What a gateway cannot reach is looked at from the gateway: a name is looked up there, and for an address its way is asked.
#[test]
fn what_a_gateway_cannot_reach_is_looked_at_from_there() {
    let desk = Desk::with_key();
    let lit = light(MachineSpec { gateway: true, ..machine("gate", &desk.public_key("harbour")) });
    desk.add(&lit);
    for (name, address, advice) in [
        ("lamp-01", "10.77.0.99", "lantern run gate -- ip route get 10.77.0.99"),
        ("lamp-02", "lamp.pier.example", "lantern run gate -- getent hosts lamp.pier.example"),
    ] {
        desk.lantern(&["machine", "add", name, address, "--gateway", "gate"]).expect(0);
        let out = desk.lantern(&["check", name]).expect(243);
        has(out.text(), &["the gateway gate did not connect us", advice]);
    }
}

/// Each cause of a failed connection has its own advice, and none has another's.
#[test]
fn each_cause_has_its_own_advice() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let causes: [(Option<Fault>, i32, &str); 3] = [
        (Some(Fault::Closed), 244, "lantern machine prepare lamp-01 --system SYSTEM"),
        (
            Some(Fault::OtherService("HTTP/1.1 400 Bad Request\r\n\r\n")),
            246,
            "lantern machine set lamp-01 port=PORT",
        ),
        (Some(Fault::CutAfter(30)), 246, "sudo journalctl"),
    ];
    for (fault, status, advice) in causes {
        let lit = light(MachineSpec { fault, ..machine("lamp-01", &key) });
        desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", lit.address)]).expect(0);
        let out = desk.lantern(&["check", "lamp-01"]).expect(status);
        has(out.text(), &[advice]);
        desk.lantern(&["machine", "remove", "lamp-01", "--yes"]).expect(0);
    }
    desk.lantern(&["machine", "add", "lamp-01", "nowhere.invalid"]).expect(0);
    has(
        desk.lantern(&["check", "lamp-01"]).expect(242).text(),
        &["lantern machine set lamp-01 address=ADDRESS"],
    );
    // Two tries at a password that came to the same are one line.
    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![]);
    keeper.rule = LoginRule::AnyOf(vec!["keyboard-interactive"]);
    let lit = light(MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-02", 2).unwrap() });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["run", "lamp-02", "whoami"]);
    for _ in 0..3 {
        screen.wait_for("Password:");
        screen.send("wrong\r");
        std::thread::sleep(std::time::Duration::from_millis(300));
    }
    screen.wait_for_exit();
    assert_eq!(screen.text().matches("keyboard-interactive: refused").count(), 1, "{}", screen.text());
}
