//! Every way to fail before anything runs, each with its own exit code and words.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{Fault, LoginRule, MachineSpec, UserSpec};
use lantern_keys::SecretString;
use support::{Desk, Outcome, Screen, light, machine};

#[test]
fn network_failures_are_told_apart() {
    let desk = Desk::with_key();
    let spec = |fault| MachineSpec { fault: Some(fault), ..machine("lamp-01", &desk.public_key("harbour")) };
    let run = |address: &str, status: i32| {
        let words = [
            "run",
            address,
            "--connect-limit",
            "1",
            "--handshake-limit",
            "1",
            "--no-questions",
            "--",
            "true",
        ];
        desk.lantern(&words).expect(status).err
    };
    let err = run("keeper@no-such-lamp.invalid:22", 242);
    assert!(err.contains("no-such-lamp.invalid was not found"), "{err}");
    let err = run("keeper@127.77.0.200:1", 244);
    assert!(err.contains("refused") && err.contains("nothing listens"), "{err}");
    let silent = light(spec(Fault::Silent));
    let err = run(&format!("keeper@{}", silent.address), 245);
    assert!(err.contains("waiting for the identification"), "{err}");
    let other = light(spec(Fault::OtherService("HTTP/1.0 400 Bad Request\r\n\r\n")));
    let err = run(&format!("keeper@{}", other.address), 246);
    assert!(err.contains("not an SSH server: it answered \"HTTP/1.0 400 Bad Request\""), "{err}");
    // A bit flipped in the server's share: its signature covers another exchange than the one that took place.
    let corrupt = light(spec(Fault::CorruptAt(1800)));
    let err = run(&format!("keeper@{}", corrupt.address), 248);
    assert!(err.contains("the signature does not verify"), "{err}");
    let cut = light(spec(Fault::CutAfter(600)));
    let err = run(&format!("keeper@{}", cut.address), 246);
    assert!(err.contains("closed the connection during the key exchange"), "{err}");
}

/// In a network of its own: one with nothing in it, and one whose only device swallows every packet.
#[test]
fn no_route_and_no_answer_are_told_apart() {
    if !support::sshd::available() {
        return;
    }
    let desk = Desk::new();
    let run_in = |setup: &str, address: &str| -> Outcome {
        let line = format!(
            "{setup} exec {} --home home run {address} --connect-limit 1 --no-questions --user keeper -- true",
            support::binary()
        );
        let mut command = std::process::Command::new("unshare");
        command.args(["--net", "sh", "-c", &line]).current_dir(desk.folder.path());
        command.output().unwrap().into()
    };
    let outcome = run_in("", "127.77.0.1:22").expect(243);
    assert!(outcome.err.contains("no route to 127.77.0.1:22"), "{}", outcome.err);
    // One end of a cable, with a neighbor behind the other end that is not there.
    let swallow = "ip link add v0 type veth peer name v1 && ip addr add 10.77.0.1/24 dev v0 && ip link set v0 up \
         && ip link set v1 up && ip neigh add 10.77.0.2 lladdr 02:00:00:00:00:02 dev v0;";
    let outcome = run_in(swallow, "10.77.0.2:22").expect(245);
    assert!(
        outcome.err.contains("did not answer within 1 s") && outcome.err.contains("firewall"),
        "{}",
        outcome.err
    );
}

#[test]
fn links_that_break_after_login_are_lost_with_what_came_before() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let lit = light(MachineSpec { fault: Some(Fault::CutAfter(300_000)), ..machine("lamp-01", &key) });
    desk.add(&lit);
    let outcome = desk.lantern(&["run", "lamp-01", "--", "flood", "1000000"]).expect(251);
    assert!(outcome.err.contains("the connection to lamp-01 was lost"), "{}", outcome.err);
    assert!(outcome.out.len() > 10_000, "what came before the cut is delivered");
    assert!(outcome.out.iter().enumerate().all(|(at, byte)| *byte == (at % 251) as u8));

    let lit = light(MachineSpec { fault: Some(Fault::CorruptAt(300_000)), ..machine("lamp-02", &key) });
    desk.add(&lit);
    let outcome = desk.lantern(&["run", "lamp-02", "--", "flood", "1000000"]).expect(251);
    assert!(outcome.err.contains("integrity check"), "{}", outcome.err);
}

#[test]
fn a_refused_login_says_as_whom_with_what_and_what_would_do() {
    let desk = Desk::with_key();
    desk.lantern_with_input(
        &["key", "new", "spare", "--passphrase-from", "fd:0"],
        b"oil for the lamp\n".to_vec(),
    )
    .expect(0);
    let stranger = Desk::with_key().public_key("harbour");
    let lit = light(machine("lamp-01", &stranger));
    desk.add(&lit);
    let outcome = desk.lantern(&["run", "lamp-01", "--no-questions", "--", "true"]).expect(249);
    for wanted in [
        "lamp-01 did not let keeper in",
        "the server would take: publickey, password, keyboard-interactive",
        "key harbour (SHA256:",
        "key spare (SHA256:",
        "refused by the server",
        "password: no password was given",
        "--user",
    ] {
        assert!(outcome.err.contains(wanted), "{wanted}: {}", outcome.err);
    }
    // A server that takes the locked key: nobody there to unlock it.
    let lit = light(machine("lamp-02", &desk.public_key("spare")));
    desk.add(&lit);
    let outcome = desk.lantern(&["run", "lamp-02", "--no-questions", "--", "true"]).expect(249);
    assert!(outcome.err.contains("locked, and no passphrase was given"), "{}", outcome.err);
    let words = ["run", "lamp-02", "--passphrase-from", "fd:0", "--no-input", "--", "whoami"];
    assert_eq!(desk.lantern_with_input(&words, b"oil for the lamp\n".to_vec()).expect(0).text(), "keeper\n");
}

#[test]
fn passphrase_password_and_code_are_asked_at_the_terminal_without_echo() {
    let desk = Desk::new();
    let mut screen = Screen::open(&desk, &["key", "new", "harbour"]);
    // Each question is waited for, by how many of its kind have been asked.
    for (question, times, answer) in [
        ("New passphrase for the key harbour:", 1, "first light"),
        ("The same again:", 1, "first lamp"),
        ("New passphrase for the key harbour:", 2, ""),
        ("New passphrase for the key harbour:", 3, "first light"),
        ("The same again:", 2, "first light"),
    ] {
        screen.wait_until(question, |text| text.matches(question).count() == times);
        screen.send(&format!("{answer}\r"));
    }
    assert_eq!(screen.wait_for_exit(), 0);
    assert!(!screen.text().contains("first light"), "{}", screen.text());

    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![desk.public_key("harbour")]);
    keeper.rule = LoginRule::InTurn(vec!["publickey", "password", "keyboard-interactive"]);
    keeper.code = Some(SecretString::new("2718".into()));
    let lit = light(MachineSpec {
        users: vec![keeper],
        banner: Some("Keepers only\x1b[2J\n".into()),
        ..MachineSpec::new("foghorn", 1).unwrap()
    });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["run", "foghorn", "--", "whoami"]);
    for (question, answer) in [
        ("Passphrase of the key harbour:", "wrong"),
        ("That did not open it.", "first light"),
        ("Password of keeper on foghorn:", "high visibility"),
        ("That was not it.", "low visibility"),
        ("[foghorn] Password:", "low visibility"),
        ("[foghorn] Code on the lamp room door:", "2718"),
    ] {
        screen.wait_for(question);
        screen.send(&format!("{answer}\r"));
    }
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    let text = screen.wait_for("2718\nkeeper");
    assert!(text.contains("Keepers only␛[2J"), "{text}");
    assert!(!text.contains("visibility") && text.contains("2718"), "{text}");
    assert!(screen.is_cooked());
}

#[test]
fn an_expired_password_is_changed_on_the_way_in() {
    let desk = Desk::new();
    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![]);
    keeper.rule = LoginRule::AnyOf(vec!["password"]);
    keeper.password_expired = true;
    let lit = light(MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-01", 1).unwrap() });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["run", "lamp-01", "--", "whoami"]);
    // The first new one is the old one, which the machine does not take: another may be tried.
    for (question, times, answer) in [
        ("Password of keeper", 1, "low visibility"),
        ("New password:", 1, "low visibility"),
        ("The same again:", 1, "low visibility"),
        ("New password:", 2, "clear night"),
        ("The same again:", 2, "clear night"),
    ] {
        screen.wait_until(question, |text| text.matches(question).count() == times);
        screen.send(&format!("{answer}\r"));
    }
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    let text = screen.text();
    assert!(text.contains("lamp-01 did not take the new password"), "{text}");
}

/// A server that drops the connection while a question waits: the question ends with it, and the terminal is as it was.
#[test]
fn a_question_ends_with_its_connection() {
    let desk = Desk::with_key();
    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![]);
    keeper.rule = LoginRule::AnyOf(vec!["password"]);
    let fault = Some(Fault::HangUpAfter(std::time::Duration::from_secs(2)));
    let lit = light(MachineSpec { users: vec![keeper], fault, ..MachineSpec::new("lamp-01", 1).unwrap() });
    desk.add(&lit);
    let mut screen = Screen::open(&desk, &["run", "lamp-01", "--", "whoami"]);
    screen.wait_for("Password of keeper");
    let status = screen.wait_for_exit();
    assert_eq!(status, 246, "{}", screen.text());
    let text = screen.text().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("closed the connection before login was complete"), "{text}");
    assert!(screen.is_cooked());
}

#[test]
fn no_secret_reaches_the_log() {
    let desk = Desk::new();
    desk.lantern_with_input(
        &["key", "new", "harbour", "--passphrase-from", "fd:0"],
        b"oil for the lamp\n".to_vec(),
    )
    .expect(0);
    let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![desk.public_key("harbour")]);
    keeper.rule = LoginRule::InTurn(vec!["publickey", "password"]);
    let lit = light(MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-01", 1).unwrap() });
    desk.add(&lit);
    let passphrase = desk.folder.path().join("passphrase");
    std::fs::write(&passphrase, "oil for the lamp\n").unwrap();
    let shell = format!(
        "exec {} run lamp-01 -vv --log log --passphrase-from fd:3 --password-from fd:4 --no-input -- whoami 3<{} 4<<EOF\nlow visibility\nEOF",
        support::binary(),
        passphrase.display()
    );
    let mut command = std::process::Command::new("sh");
    command.arg("-c").arg(shell).env_clear().env("LANTERN_HOME", desk.home()).current_dir(desk.folder.path());
    let outcome: support::Outcome = command.output().unwrap().into();
    let outcome = outcome.expect(0);
    let log = std::fs::read_to_string(desk.folder.path().join("log")).unwrap();
    for text in [&log, &outcome.err] {
        assert!(text.contains("trying a key") && text.contains("trying a password"), "{text}");
        assert!(!text.contains("oil for") && !text.contains("visibility"), "{text}");
    }
}

/// A secret from a file or a command; and one that somebody put on the command line itself is refused and not repeated.
#[test]
fn secrets_come_from_where_it_is_said_and_from_nowhere_else() {
    let desk = Desk::new();
    std::fs::write(desk.folder.path().join("word"), "oil for the lamp 41\n").unwrap();
    let new = |name: &str, source: &str| desk.lantern(&["key", "new", name, "--passphrase-from", source]);
    let err = new("one", "file:word").expect(0).err;
    assert!(err.contains("others on this computer can read word"), "{err}");
    new("two", "command:echo 'oil for the lamp 41'; echo more").expect(0);
    for name in ["one", "two"] {
        let key = ["key", "comment", name, "x", "--passphrase-from", "command:cat word"];
        desk.lantern(&key).expect(0);
    }
    for (source, status) in [
        ("oil for the lamp 41", 240),
        ("fd:oil", 240),
        ("command:", 240),
        ("file:oil", 241),
        ("fd:77", 241),
        ("command:exit 7", 241),
    ] {
        let outcome = new("three", source).expect(status);
        assert!(!outcome.err.contains("the lamp") && outcome.out.is_empty(), "{}", outcome.err);
    }
    desk.lantern(&["key", "show", "three"]).expect(241);
}

#[test]
fn local_failures_name_the_file_and_the_remedy() {
    let desk = Desk::new();
    let outcome = desk.without_terminal(&["key", "new", "harbour"]).expect(241);
    assert!(outcome.err.contains("--passphrase-from") && outcome.err.contains("--plain"), "{}", outcome.err);
    desk.lantern(&["key", "new", "harbour", "--plain"]).expect(0);
    let outcome = desk.lantern(&["key", "new", "harbour", "--plain"]).expect(241);
    assert!(outcome.err.contains("exists already"), "{}", outcome.err);
    let outcome = desk.lantern(&["key", "show", "harbor"]).expect(241);
    assert!(outcome.err.contains("did you mean `harbour`?"), "{}", outcome.err);
    let outcome = desk.lantern(&["shell", "lamp-09"]).expect(241);
    assert!(outcome.err.contains("needs a terminal") || outcome.err.contains("lamp-09"), "{}", outcome.err);
    let outcome = desk.lantern(&["run", "lamp-09", "--", "x"]).expect(241);
    assert!(outcome.err.contains("lantern machine add lamp-09"), "{}", outcome.err);
    let outcome = desk.lantern(&["run"]).expect(240);
    assert!(outcome.err.contains("Usage"), "{}", outcome.err);
    let outcome = desk.lantern(&["machine", "add", "lamp-01", "192.0.2.1", "--key", "none-such"]).expect(241);
    assert!(outcome.err.contains("no key is called"), "{}", outcome.err);
    let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
    let outcome: support::Outcome = desk.command(&["key", "list"]).stdout(full).output().unwrap().into();
    assert_eq!(outcome.status, 241);
    assert!(outcome.err.contains("No space left"), "{}", outcome.err);
    // A book in a place that cannot be written.
    let outcome =
        desk.lantern(&["--home", "/proc/lantern", "machine", "add", "lamp-01", "192.0.2.1"]).expect(241);
    assert!(outcome.err.contains("/proc/lantern"), "{}", outcome.err);
}

/// A disk that fills up while a record is written behind the others: what did fit is taken away again, and nothing that was there is lost.
#[test]
fn a_full_disk_leaves_the_trust_store_as_it_was() {
    let desk = Desk::new();
    let revoke = |number: u8, reason: &str| {
        let fingerprint = format!("SHA256:{}{}A", char::from(b'a' + number), "b".repeat(41));
        ["trust", "revoke", &fingerprint, "--reason", reason].map(str::to_owned)
    };
    let run = |words: &[String]| desk.lantern(&words.iter().map(String::as_str).collect::<Vec<_>>());
    for number in 0..8 {
        run(&revoke(number, "lost at sea")).expect(0);
    }
    let file = desk.home().join("trust.toml");
    let before = std::fs::read(&file).unwrap();
    assert!(before.len() < 4096);
    let words: Vec<String> = revoke(9, &"x".repeat(6000)).map(|word| format!("'{word}'")).to_vec();
    // Files may have eight blocks of 512 bytes.
    let script = format!("trap '' XFSZ; ulimit -f 8; exec {} {}", support::binary(), words.join(" "));
    let mut command = std::process::Command::new("sh");
    command.args(["-c", &script]).env("LANTERN_HOME", desk.home()).current_dir(desk.folder.path());
    let err = Outcome::from(command.output().unwrap()).expect(241).err;
    assert!(err.contains("trust.toml") && err.lines().all(|line| line.len() < 300), "{err}");
    assert_eq!(std::fs::read(&file).unwrap(), before);
    run(&revoke(10, "lost at sea")).expect(0);
    assert!(std::fs::read(&file).unwrap().starts_with(&before));
}
