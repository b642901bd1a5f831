//! Keys put on machines, taken out and rotated, on simulated machines: every way to fail, and a stop at every write.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{LoginRule, MachineSpec};
use lantern_keys::login_list;
use support::{Desk, Lit, Screen, light, machine};

const PASSWORD: &str = "low visibility";

/// The keys that may log in now, by the names of the desk's ring.
fn logins(desk: &Desk, lit: &Lit, names: &[&str]) -> Vec<String> {
    let listed = login_list::keys(&lit.lit.logins("keeper"));
    let mine = names.iter().filter(|name| listed.iter().any(|line| line.key == desk.public_key(name)));
    mine.map(|name| (*name).to_owned()).collect()
}

/// A desk whose machines know the key `first`.
fn desk_and_machines<const N: usize>() -> (Desk, [Lit; N]) {
    let desk = Desk::new();
    desk.lantern(&["key", "new", "first", "--plain"]).expect(0);
    let lit = std::array::from_fn(|number| {
        let lit = light(machine(&format!("lamp-0{}", number + 1), &desk.public_key("first")));
        desk.add(&lit);
        lit
    });
    (desk, lit)
}

#[test]
fn a_key_is_installed_by_password_proven_and_installed_again_without_a_change() {
    let (desk, [lit]) = desk_and_machines();
    desk.lantern(&["key", "new", "second", "--plain", "--comment", "second floor"]).expect(0);
    let before = lit.lit.logins("keeper");
    let words = ["key", "install", "second", "lamp-01", "--no-key", "--password-from", "fd:3"];
    let said = desk.with_secrets(&words, PASSWORD, "").expect(0).err;
    assert!(said.contains("second is installed for keeper on lamp-01, and a login with it works"), "{said}");
    let after = lit.lit.logins("keeper");
    assert!(after.starts_with(&before) && after.ends_with(b" second floor\n"));
    let said =
        desk.lantern(&["key", "install", "second", "lamp-01", "--key", "second", "--use"]).expect(0).err;
    assert!(said.contains("was installed already"), "{said}");
    assert_eq!(lit.lit.logins("keeper"), after);
    let shown = desk.lantern(&["key", "show", "second"]).expect(0);
    assert!(shown.text().contains("lamp-01 as keeper since"), "{}", shown.text());
    assert!(shown.text().contains("machines     lamp-01"), "{}", shown.text());
    // With limits, in its place.
    let limits = [
        "--limit-from",
        "127.0.0.0/8",
        "--limit-command",
        "say \"hi\"",
        "--no-forwarding",
        "--expires",
        "2031-05-01",
    ];
    desk.lantern(&[&["key", "install", "second", "lamp-01"][..], &limits].concat()).expect(0);
    let lines = login_list::keys(&lit.lit.logins("keeper"));
    assert_eq!(lines.len(), 2);
    assert_eq!(
        lines[1].options,
        "from=\"127.0.0.0/8\",command=\"say \\\"hi\\\"\",no-agent-forwarding,no-port-forwarding,no-X11-forwarding,expiry-time=\"203105012359Z\""
    );
    // Wrong ways.
    assert!(
        desk.lantern(&["key", "install", "thrid", "lamp-01"]).expect(241).err.contains("no key is called")
    );
    assert!(
        desk.lantern(&["key", "install", "second", "lamp-09"])
            .expect(241)
            .err
            .contains("no machine is called")
    );
    let err = desk.with_secrets(&words, "wrong", "").expect(249).err;
    assert!(err.contains("password"), "{err}");
    let err =
        desk.lantern(&["key", "install", "second", "lamp-01", "--limit-command", "a\nb"]).expect(240).err;
    assert!(err.contains("line ends"), "{err}");
}

#[test]
fn a_key_is_withdrawn_unless_it_is_the_last_way_in() {
    let (desk, [lit]) = desk_and_machines();
    let err = desk.without_terminal(&["key", "withdraw", "first", "lamp-01", "--yes"]).expect(249).err;
    assert!(err.contains("last way into lamp-01") && err.contains("--even-the-last"), "{err}");
    // The same key from a file proves no other way.
    let file = desk.home().join("keys/first.key");
    let words = ["key", "withdraw", "first", "lamp-01", "--yes", "--key", file.to_str().unwrap()];
    assert!(desk.lantern(&words).expect(240).err.contains("another key than first"));
    assert_eq!(logins(&desk, &lit, &["first"]), ["first"]);
    desk.lantern(&["key", "new", "second", "--plain"]).expect(0);
    desk.lantern(&["key", "install", "second", "lamp-01", "--key", "first"]).expect(0);
    let said = desk.lantern(&["key", "withdraw", "first", "lamp-01", "--yes"]).expect(0).err;
    assert!(said.contains("does not log in as keeper on lamp-01 any more"), "{said}");
    assert_eq!(logins(&desk, &lit, &["first", "second"]), ["second"]);
    let said = desk.lantern(&["key", "withdraw", "first", "lamp-01", "--yes"]).expect(0).err;
    assert!(said.contains("was not in the list"), "{said}");
    // A password is a way in too, at a terminal.
    let mut screen = Screen::open(&desk, &["key", "withdraw", "second", "lamp-01", "--yes"]);
    screen.wait_for("Password:");
    screen.send("low visibility\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(lit.lit.logins("keeper").is_empty());
}

#[test]
fn a_rotation_goes_through_all_machines_with_one_passphrase() {
    let desk = Desk::new();
    desk.with_secrets(&["key", "new", "first", "--passphrase-from", "fd:3"], "twelve green lamps", "")
        .expect(0);
    let lit: Vec<Lit> = (1..=3)
        .map(|number| {
            let lit = light(machine(&format!("lamp-0{number}"), &desk.public_key("first")));
            let address = format!("keeper@{}", lit.address);
            desk.lantern(&["machine", "add", &lit.name, &address, "--key", "first"]).expect(0);
            desk.lantern(&["trust", "accept", &lit.name, "--expect", &lit.fingerprint]).expect(0);
            lit
        })
        .collect();
    let plan = desk.lantern(&["key", "rotate", "first", "--plan"]).expect(0);
    assert!(
        plan.text().starts_with("new      first-2")
            && plan.text().contains("changed  lamp-03  key  first → first-2"),
        "{}",
        plan.text()
    );
    assert!(!desk.home().join("keys/first-2.key").exists());
    let mut screen = Screen::open(&desk, &["key", "rotate", "first"]);
    screen.wait_for("Replace first on 3 machines?");
    screen.send("yes\r");
    screen.wait_for("Passphrase of first:");
    screen.send("twelve green lamps\r");
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    screen.wait_for("lantern key remove first");
    for lit in &lit {
        assert_eq!(logins(&desk, lit, &["first", "first-2"]), ["first-2"]);
        let words = ["run", &lit.name, "--passphrase-from", "fd:3", "--", "hostname"];
        assert_eq!(
            desk.with_secrets(&words, "twelve green lamps", "").expect(0).text(),
            format!("{}\n", lit.name)
        );
    }
    desk.lantern(&["key", "remove", "first", "--yes"]).expect(0);
}

#[test]
fn a_rotation_keeps_the_limits_that_stand_on_the_machine_and_says_what_is_left() {
    let (desk, [lit, other]) = desk_and_machines();
    desk.lantern(&["machine", "add", "third", "192.0.2.9", "--key", "first"]).expect(0);
    // Limited by another hand: this desk's ring knows nothing of it.
    let elsewhere = Desk::new();
    std::fs::create_dir_all(elsewhere.home().join("keys")).unwrap();
    for name in ["keys/first.key", "keys/first.pub", "trust.toml", "machines.toml"] {
        std::fs::copy(desk.home().join(name), elsewhere.home().join(name)).unwrap();
    }
    elsewhere
        .lantern(&["key", "install", "first", "lamp-01", "--no-forwarding", "--expires", "2031-05-01"])
        .expect(0);
    let options = || login_list::keys(&lit.lit.logins("keeper"))[0].options.clone();
    let before = options();
    assert!(before.contains("no-port-forwarding"), "{before}");
    let err = desk.lantern(&["key", "rotate", "first", "lamp-01", "lamp-02", "--yes"]).expect(0).err;
    assert_eq!((logins(&desk, &lit, &["first", "first-2"]), options()), (vec!["first-2".to_owned()], before));
    assert!(login_list::keys(&other.lit.logins("keeper"))[0].options.is_empty());
    // A machine in the book still names it: nothing says that it can go.
    assert!(!err.contains("lantern key remove"), "{err}");
}

#[test]
fn a_rotation_that_fails_on_one_machine_goes_on_later() {
    let (desk, [first, second]) = desk_and_machines();
    let (name, address) = (second.name.clone(), second.address);
    let spec = (*second.lit.spec).clone();
    drop(second);
    let words = ["key", "rotate", "first", "lamp-01", "lamp-02", "--no-questions", "--yes"];
    let unasked = desk.lantern(&words[..words.len() - 1]).expect(240).err;
    assert!(
        unasked.contains("--no-questions forbids the question")
            && !desk.home().join("keys/first-2.key").exists(),
        "{unasked}"
    );
    let err = desk.lantern(&words).err;
    // The place is no name: whose it is, is said.
    assert!(err.contains("error: lamp-02: 127."), "{err}");
    assert!(err.contains("1 of 2 machines still have first") && err.contains("nothing listens"), "{err}");
    assert_eq!(logins(&desk, &first, &["first", "first-2"]), ["first-2"]);
    let again = light(MachineSpec { port: address.port(), ..spec });
    assert_eq!(again.name, name);
    let err = desk.lantern(&["key", "rotate", "first", "lamp-02", "--to", "other"]).expect(240).err;
    assert!(err.contains("being replaced by first-2 already"), "{err}");
    desk.lantern(&words).expect(0);
    assert_eq!(logins(&desk, &again, &["first", "first-2"]), ["first-2"]);
}

/// The program is stopped at each of its writes in turn; whatever is there then, a way in is left, and the same command
/// ends the work.
#[test]
fn a_rotation_stopped_at_any_write_loses_no_way_in_and_goes_on() {
    let (desk, [lit]) = desk_and_machines();
    let words = ["key", "rotate", "first", "lamp-01", "--no-questions"];
    let mut stops = 0;
    for write in 1.. {
        let outcome = desk.command(&words).env("LANTERN_TEST_STOP_AT", write.to_string()).output().unwrap();
        let status = outcome.status.code();
        // Any key of the ring gets in.
        desk.lantern(&["run", "lamp-01", "--no-questions", "--", "hostname"]).expect(0);
        if status == Some(lantern_book::fault::STOPPED) {
            stops += 1;
            if write % 3 == 0 {
                // Sometimes it is finished right away, and begins anew for the next key.
                desk.lantern(&words).expect(0);
                assert_eq!(logins(&desk, &lit, &["first", "first-2"]), ["first-2"]);
                reset(&desk, &lit);
            }
            continue;
        }
        assert_eq!(status, Some(0), "{}", String::from_utf8_lossy(&outcome.stderr));
        break;
    }
    assert!(stops > 10, "{stops} stops");
    assert_eq!(logins(&desk, &lit, &["first", "first-2"]), ["first-2"]);
    assert!(!desk.home().join("keys/first-3.key").exists(), "the new key was made twice");
}

/// Back to the beginning: the old key is in, the new one was never made.
fn reset(desk: &Desk, lit: &Lit) {
    let words = ["key", "install", "first", &lit.name, "--key", "first-2", "--no-questions"];
    desk.lantern(&words).expect(0);
    desk.lantern(&["key", "withdraw", "first-2", &lit.name, "--yes", "--no-questions"]).expect(0);
    desk.lantern(&["key", "remove", "first-2", "--yes"]).expect(0);
    let notes = desk.home().join("keys/ring.toml");
    let text = std::fs::read_to_string(&notes).unwrap();
    let kept: Vec<&str> = text.lines().filter(|line| !line.starts_with("replaced-by")).collect();
    std::fs::write(&notes, kept.join("\n")).unwrap();
}

#[test]
fn a_key_that_is_only_half_of_the_way_in_counts_as_proven_but_is_not_rotated() {
    let desk = Desk::new();
    desk.lantern(&["key", "new", "first", "--plain"]).expect(0);
    desk.lantern(&["key", "new", "second", "--plain"]).expect(0);
    let mut spec = machine("lamp-01", &desk.public_key("first"));
    spec.users[0].rule = LoginRule::InTurn(vec!["publickey", "password"]);
    let lit = light(spec);
    desk.add(&lit);
    let words = ["key", "install", "second", "lamp-01", "--key", "first", "--password-from", "fd:3"];
    desk.with_secrets(&words, PASSWORD, "").expect(0);
    assert_eq!(logins(&desk, &lit, &["first", "second"]), ["first", "second"]);
    let words = ["key", "rotate", "first", "lamp-01", "--password-from", "fd:3"];
    let err = desk.with_secrets(&words, PASSWORD, "").expect(249).err;
    assert!(err.contains("wants more than a key"), "{err}");
    assert_eq!(logins(&desk, &lit, &["first"]), ["first"]);
}
