//! What is done every day, counted in commands and answers: from a pasted line to a shell, picking a machine, keeping one that worked.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;

use support::{Desk, Lit, Screen, light, machine};

/// Answers questions at a screen, and counts them.
struct Person<'s> {
    screen: &'s Screen,
    answers: usize,
}

impl<'s> Person<'s> {
    fn at(screen: &'s Screen) -> Self {
        Self { screen, answers: 0 }
    }

    #[track_caller]
    fn answer(&mut self, question: &str, answer: &str) -> String {
        let text = self.screen.wait_for(question);
        self.screen.send(&format!("{answer}\r"));
        self.answers += 1;
        text
    }
}

/// A key pair as a console hands it out: a file that everybody can read, in a folder of its own; and a machine that takes it.
fn handed_out(desk: &Desk, file: &str) -> Lit {
    let elsewhere = Desk::with_key();
    let place = desk.folder.path().join(file);
    fs::copy(elsewhere.home().join("keys/harbour.key"), &place).unwrap();
    fs::set_permissions(&place, fs::Permissions::from_mode(0o644)).unwrap();
    light(machine("lamp-01", &elsewhere.public_key("harbour")))
}

fn line(lit: &Lit, key: &str) -> String {
    format!("ssh -i {key} -p {} keeper@{}", lit.address.port(), lit.address.ip())
}

#[test]
fn from_a_pasted_line_and_a_downloaded_key_to_a_shell_takes_one_command_and_four_answers() {
    let desk = Desk::new();
    let lit = handed_out(&desk, "lamp-key.pem");
    let mut screen = Screen::open(&desk, &["shell", "--paste", &line(&lit, "~/never/there/lamp-key.pem")]);
    let mut person = Person::at(&screen);
    person.answer("Is it lamp-key.pem?", "yes");
    let text = person.answer("or `trust`:", "trust");
    assert!(text.contains("it is closed to them now"), "{text}");
    // The session.
    screen.wait_for("~ %");
    screen.send("hostname\r");
    screen.wait_for("lamp-01\n");
    screen.send("exit\r");
    person.answer("Name [lamp-key]:", "lamp-01");
    person.answer("New passphrase for the key lamp-01", "fog over the pier 41");
    let answers = person.answers;
    assert_eq!((screen.wait_for_exit(), answers), (0, 4), "{}", screen.text());
    screen.wait_for("lamp-01 is in the book");
    let mode = fs::metadata(desk.folder.path().join("lamp-key.pem")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);

    // From now on it is a machine like others, and no stranger.
    let out = desk.with_secrets(
        &["run", "--passphrase-from", "fd:3", "lamp-01", "--", "hostname"],
        "fog over the pier 41",
        "",
    );
    assert_eq!(out.expect(0).text(), "lamp-01\n");
    let machines: serde_json::Value =
        serde_json::from_str(desk.lantern(&["machine", "list", "--json"]).text()).unwrap();
    assert_eq!(machines[0]["keys"][0], "lamp-01");
    assert!(machines[0]["last_used"].is_string(), "{machines}");
    let trust = desk.lantern(&["trust", "list", "--json"]).expect(0);
    assert!(trust.text().contains("\"lamp-01\"") && !trust.text().contains(" via "), "{}", trust.text());
}

#[test]
fn a_passphrase_is_typed_once_from_the_pasted_line_to_the_ring() {
    let desk = Desk::new();
    desk.with_secrets(&["key", "new", "lamp", "--passphrase-from", "fd:3"], "fog over the pier 41", "")
        .expect(0);
    fs::copy(desk.home().join("keys/lamp.key"), desk.folder.path().join("lamp.pem")).unwrap();
    let lit = light(machine("lamp-01", &desk.public_key("lamp")));
    desk.lantern(&["key", "remove", "lamp", "--yes"]).expect(0);
    let mut screen = Screen::open(&desk, &["run", "--paste", &line(&lit, "lamp.pem"), "--", "hostname"]);
    let mut person = Person::at(&screen);
    person.answer("or `trust`:", "trust");
    person.answer("Passphrase of the key", "fog over the pier 41");
    person.answer("Name [lamp]:", "");
    person.answer("Start the keeper, and have it hold the key unlocked?", "yes");
    let answers = person.answers;
    assert_eq!((screen.wait_for_exit(), answers), (0, 4), "{}", screen.text());
    // The keeper has it from now on, and nobody types anything.
    assert_eq!(desk.without_terminal(&["run", "lamp", "--", "hostname"]).expect(0).text(), "lamp-01\n");
    desk.lantern(&["keeper", "stop"]).expect(0);
    let key = desk.lantern(&["key", "show", "lamp", "--json"]).expect(0);
    assert!(
        key.text().contains("\"passphrase\": true") || key.text().contains("protection"),
        "{}",
        key.text()
    );
}

#[test]
fn somebody_is_asked_once_whether_to_keep_a_machine_and_a_script_never() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    let place = format!("keeper@{}", lit.address);
    let words = ["run", "--expect", &lit.fingerprint, &place, "hostname"];
    // A script that reads from the terminal, as one typed at a prompt would not be: its own process group.
    let script =
        format!("{} run --expect {} {place} hostname; echo done", support::binary(), lit.fingerprint);
    let mut screen = Screen::open_program(&desk, "/bin/sh", &["-c", &script]);
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(screen.wait_for("done").find("Name [").is_none());
    // Nor where nobody is, or results go elsewhere.
    desk.lantern(&words).expect(0);

    let mut screen = Screen::open(&desk, &words);
    Person::at(&screen).answer("Name [", "no");
    assert_eq!(screen.wait_for_exit(), 0);
    let mut screen = Screen::open(&desk, &words);
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(!screen.text().contains("Name ["), "{}", screen.text());
    assert_eq!(desk.lantern(&["machine", "list", "--json"]).text().trim(), "[]");

    // A yes is no name.
    let lit = light(machine("lamp-02", &desk.public_key("harbour")));
    let place = format!("keeper@{}", lit.address);
    let mut screen = Screen::open(&desk, &["run", "--expect", &lit.fingerprint, &place, "hostname"]);
    Person::at(&screen).answer("Name [", "yes");
    assert_eq!(screen.wait_for_exit(), 0);
    let suggested = lit.address.ip().to_string().replace('.', "-");
    desk.lantern(&["machine", "show", &suggested]).expect(0);
}

#[test]
fn a_machine_is_kept_unattended_once_it_worked_and_not_before() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    let place = format!("keeper@{}", lit.address);
    let run = |more: &[&str]| {
        let words = [&["run", "--save", "lamp-07", "--expect", &lit.fingerprint], more].concat();
        desk.lantern(&words)
    };
    run(&["--no-key", &place, "whoami"]).expect(249);
    assert_eq!(desk.lantern(&["machine", "list", "--json"]).text().trim(), "[]");
    run(&["--gateway", "nowhere", &place, "whoami"]).expect(241);
    run(&[&place, "whoami"]).expect(0);
    // By its name it is no stranger, without anything to be said about trust.
    assert_eq!(desk.lantern(&["run", "lamp-07", "hostname"]).expect(0).text(), "lamp-01\n");
    let again = run(&[&place, "whoami"]).expect(241);
    assert!(again.err.contains("lamp-07"), "{}", again.err);
    let named = desk.lantern(&["run", "--save", "other", "lamp-07", "whoami"]).expect(240);
    assert!(named.err.contains("is in the book already"), "{}", named.err);
}

#[test]
fn a_text_that_could_mean_another_machine_goes_nowhere_unattended() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    let two = format!("ssh keeper@{}\nssh -p 9 keeper@192.0.2.9", lit.address.ip());
    let out = desk.without_terminal(&["run", "--paste", &two, "--", "hostname"]).expect(240);
    assert!(out.err.contains("another line leads to 192.0.2.9"), "{}", out.err);
    let left = format!("ssh -D 1080 -p {} keeper@{}", lit.address.port(), lit.address.ip());
    let out =
        desk.without_terminal(&["run", "--paste", &left, "--expect", &lit.fingerprint, "--", "hostname"]);
    let out = out.expect(0);
    assert!(out.err.contains("not understood: -D 1080") && out.text() == "lamp-01\n", "{}", out.err);
    let out = desk.without_terminal(&["machine", "add", "lamp-01", "--yes", "--paste", &left]).expect(240);
    assert!(out.err.contains("not understood: -D 1080"), "{}", out.err);
}

#[test]
fn a_machine_is_picked_by_parts_of_what_is_known_of_it_the_latest_first() {
    let desk = Desk::with_key();
    let lit = light(machine("foghorn", &desk.public_key("harbour")));
    desk.lantern(&["machine", "add", "lamp-01", "keeper@192.0.2.7", "--tag", "coast"]).expect(0);
    desk.lantern(&["machine", "add", "lamp-02", "keeper@192.0.2.8", "--note", "the far one"]).expect(0);
    desk.add(&lit);
    desk.lantern(&["run", "foghorn", "whoami"]).expect(0);
    let mut screen = Screen::open(&desk, &["shell"]);
    let text = screen.wait_for("3 of 3");
    assert!(text.find("> foghorn").unwrap() < text.find("lamp-01").unwrap(), "{text}");
    for (typed, found) in [
        ("coast", "> lamp-01"),
        ("\x15far one", "> lamp-02"),
        ("\x15nothing", "0 of 3"),
        ("\x15fhn", "> foghorn"),
    ] {
        screen.send(typed);
        screen.wait_for(found);
    }
    screen.send("\r");
    screen.wait_for("~ %");
    assert!(!screen.text().contains("arrows move"), "{}", screen.text());
    screen.send("exit\r");
    assert_eq!(screen.wait_for_exit(), 0);

    for leave in ["\x1b", "\x03"] {
        let mut screen = Screen::open(&desk, &["shell"]);
        screen.wait_for("3 of 3");
        screen.send(leave);
        assert_eq!(screen.wait_for_exit(), 252);
        screen.wait_for("nothing was picked");
        assert!(screen.is_cooked());
    }
    // In a locale that has ASCII only, lines are cut with a mark of it.
    let words = ["LANG=C", "sh", "-c", "stty cols 40; exec \"$0\" shell", support::binary()];
    let mut screen = Screen::open_program(&desk, "/usr/bin/env", &words);
    screen.wait_for("3 of 3");
    screen.send("\x1b");
    screen.wait_for_exit();
    let raw = screen.raw.lock().unwrap().clone();
    assert!(raw.is_ascii() && raw.contains(&b'~'), "{}", String::from_utf8_lossy(&raw));
    let listed = desk.lantern(&["machine", "list", "far", "one"]).expect(0);
    assert!(listed.text().contains("lamp-02") && !listed.text().contains("lamp-01"), "{}", listed.text());
}
