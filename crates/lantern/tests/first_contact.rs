//! Trust as a person meets it: first contact at a terminal and without one, moved machines, changed keys.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::MachineSpec;
use support::{Desk, Screen, light, machine};

const QUESTION: &str = "Fingerprint, its last 8 characters, or `trust`:";

#[test]
fn first_contact_shows_the_key_and_takes_the_fingerprint_its_end_or_a_word_in_full() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    for (answer, accepted, verified) in [
        ("trust".to_owned(), true, "accepted"),
        ("yes".to_owned(), false, ""),
        ("ENDOFIT8".to_owned(), true, "pasted"),
        ("no".to_owned(), false, ""),
        ("FINGERPRINT".to_owned(), true, "pasted"),
        ("SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".to_owned(), false, ""),
        ("\x03".to_owned(), false, "interrupted"),
    ] {
        let lit = light(machine("lamp-01", &key));
        let end = &lit.fingerprint[lit.fingerprint.len() - 8..];
        let answer = answer.replace("FINGERPRINT", &lit.fingerprint).replace("ENDOFIT8", end);
        let address = format!("keeper@{}", lit.address);
        let mut screen = Screen::open(&desk, &["run", &address, "--", "hostname"]);
        let text = screen.wait_for(QUESTION);
        assert!(text.contains(&lit.fingerprint) && text.contains(&lit.address.to_string()), "{text}");
        assert!(text.contains("Ed25519") && text.contains("lantern key show"), "{text}");
        screen.send(&format!("{answer}\r"));
        if answer == "yes" {
            screen.wait_for("Neither its fingerprint");
            screen.send("\r");
        }
        let expected = if accepted {
            screen.wait_for("Name [");
            screen.send("no\r");
            0
        } else if verified == "interrupted" {
            252
        } else {
            248
        };
        assert_eq!(screen.wait_for_exit(), expected, "{answer}: {}", screen.text());
        let trust = desk.lantern(&["trust", "list", "--json"]).expect(0);
        assert_eq!(trust.text().contains(&lit.fingerprint), accepted, "{answer}");
        if accepted {
            assert!(trust.text().contains(&format!("\"verified\": \"{verified}\"")), "{}", trust.text());
            screen.wait_for("lamp-01");
            // From now on nobody is asked.
            desk.lantern(&["run", &address, "--", "true_or_not"]).expect(127);
        }
        desk.lantern(&["trust", "forget", &lit.address.to_string(), "--yes"]).expect(0);
    }
}

#[test]
fn without_a_terminal_the_answer_is_no_and_expect_is_the_way() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    let address = format!("keeper@{}", lit.address);
    for outcome in [
        desk.without_terminal(&["run", &address, "--", "whoami"]),
        desk.lantern(&["run", &address, "--no-questions", "--", "whoami"]),
    ] {
        let outcome = outcome.expect(248);
        assert!(
            outcome
                .err
                .contains(&format!("lantern trust accept {} --expect {}", lit.address, lit.fingerprint)),
            "{}",
            outcome.err
        );
    }
    let wrong = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    let outcome = desk.lantern(&["run", &address, "--expect", wrong, "--", "whoami"]).expect(248);
    assert!(outcome.err.contains(wrong) && outcome.err.contains(&lit.fingerprint), "{}", outcome.err);
    desk.lantern(&["run", &address, "--expect", &lit.fingerprint, "--", "whoami"]).expect(0);
    // An expectation counts for a known machine too.
    desk.lantern(&["run", &address, "--expect", wrong, "--", "whoami"]).expect(248);
}

#[test]
fn a_changed_key_stops_everything_and_says_whose_it_is() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let (one, two) = (light(machine("lamp-01", &key)), light(machine("lamp-02", &key)));
    desk.add(&one);
    desk.add(&two);
    desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0);
    // lamp-01 now leads to lamp-02, as after a mix-up of addresses.
    desk.lantern(&["machine", "remove", "lamp-01", "--yes"]).expect(0);
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", two.address)]).expect(0);
    let outcome = desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(248);
    for wanted in [
        "presents another host key than it had",
        &one.fingerprint,
        &two.fingerprint,
        "this is the key of lamp-02: is the address right?",
        "trust accept lamp-01 --expect",
    ] {
        assert!(outcome.err.contains(wanted), "{wanted}: {}", outcome.err);
    }
    assert!(outcome.out.is_empty());
    let scan = desk.lantern(&["trust", "look", "lamp-01", "lamp-02"]).expect(248);
    assert!(scan.text().contains("CHANGED") && scan.text().contains("as it was"), "{}", scan.text());
    // After checking, the way that the message says.
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &two.fingerprint]).expect(0);
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0).text(), "lamp-02\n");
}

#[test]
fn a_machine_that_moved_is_a_note_and_no_alarm() {
    let desk = Desk::with_key();
    let spec = machine("lamp-01", &desk.public_key("harbour"));
    let before = light(spec.clone());
    desk.add(&before);
    desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0);
    let moved = light(MachineSpec { address: "127.77.0.99".parse().unwrap(), ..spec });
    desk.lantern(&["machine", "remove", "lamp-01", "--yes"]).expect(0);
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", moved.address)]).expect(0);
    let outcome = desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0);
    assert!(
        outcome.err.contains("has moved from") && outcome.err.contains(&before.address.to_string()),
        "{}",
        outcome.err
    );
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0).err, "", "told once");
}

#[test]
fn of_machines_that_were_never_met_nothing_is_known_and_that_is_said() {
    let desk = Desk::new();
    for name in ["lamp-01", "lamp-02"] {
        desk.lantern(&["machine", "add", name, "192.0.2.7", "tags=coast"]).expect(0);
    }
    let shown = desk.lantern(&["trust", "show", "@coast"]).expect(0);
    assert!(shown.text().is_empty() && shown.err.contains("None of them has been met."), "{}", shown.err);
    let forgotten = desk.lantern(&["trust", "forget", "@coast", "--yes"]).expect(0);
    assert!(forgotten.err.contains("Nothing was known of any of them."), "{}", forgotten.err);
    let one = desk.lantern(&["trust", "show", "lamp-01"]).expect(241);
    assert!(one.err.contains("lantern trust look lamp-01"), "{}", one.err);
}
