//! Commands on machines of Windows, as people meet them: words, codes, streams, interrupts, and connections that are lost.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::process::Stdio;
use std::thread;
use std::time::Duration;

use lantern_harbour::{WindowsFault, WindowsSpec};
use support::Screen;
use support::line::delayed;
use support::windows::{PASSWORD, Windows, chart_room, desk_for, desk_that_trusts, faulty, run, trust};

#[test]
fn a_program_runs_with_its_words_its_output_and_its_code() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &["environment.TIDE=high"]);
    let outcome = run(&desk, &["--", "show-words", "two words", "a\"b", r"c:\", "%TIDE%", ""]).expect(0);
    assert_eq!(outcome.text(), "[two words]\r\n[a\"b]\r\n[c:\\]\r\n[%TIDE%]\r\n[]\r\n");
    assert_eq!(run(&desk, &["--", "whoami"]).expect(0).text(), "chart-room\\keeper\r\n");
    assert_eq!(run(&desk, &["--", "show-variable", "TIDE"]).expect(0).text(), "high\r\n");
    let both = run(&desk, &["--", "complain", "no", "oil"]).expect(2);
    assert_eq!((both.text(), both.err.contains("no oil\r\n")), ("said\r\n", true));
    assert_eq!(run(&desk, &["--", "exit-with", "7"]).expect(7).text(), "");
    let seen = windows.seen();
    assert_eq!((seen.shells, seen.connections, seen.logins), (0, 6, 6));
    // A command that takes no input costs its four questions, on one connection.
    assert_eq!(seen.requests[..4], ["a shell", "the start of a program", "output", "the end of the shell"]);
}

#[test]
fn wide_codes_are_told_in_full_and_never_become_success() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    for (code, status, told) in [("259", 3, "259"), ("256", 1, "256"), ("3221225786", 58, "0xC000013A")] {
        let outcome = run(&desk, &["--", "exit-with", code]).expect(status);
        assert!(outcome.err.contains(told), "{}", outcome.err);
    }
}

#[test]
fn the_interpreter_reads_one_string_as_it_is() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &["environment.TIDE=high"]);
    let interpreted = |line: &str| run(&desk, &["--interpreter", "--", line]);
    assert_eq!(interpreted("echo %TIDE% water").expect(0).text(), "high water\r\n");
    assert_eq!(interpreted("dir C:\\logs | find /c \"tide\"").expect(0).text(), "2\r\n");
    assert_eq!(interpreted("no-such-thing").expect(1).err.lines().count(), 2);
    // What cannot pass is refused before anything is sent.
    let before = windows.seen().requests.len();
    for (line, why) in [("echo one\necho two", "line break"), (&*"x".repeat(9000), "8191")] {
        let refused = interpreted(line).expect(240);
        assert!(refused.err.contains(why), "{}", refused.err);
    }
    let several = run(&desk, &["--interpreter", "--", "echo", "one"]).expect(240);
    assert!(several.err.contains("one string"), "{}", several.err);
    assert_eq!(windows.seen().requests.len(), before);
    // A built-in is no program: told, with the way to it, which is followed.
    let missing = run(&desk, &["--", "dir"]).expect(250);
    assert!(
        missing.err.contains("the program was not found") && missing.err.contains("--interpreter"),
        "{}",
        missing.err
    );
    interpreted("dir").expect(0);
}

#[test]
fn input_of_any_size_arrives_whole_and_output_comes_back_untouched() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let noise = support::noise(700_000);
    let password = desk.folder.path().join("password");
    std::fs::write(&password, PASSWORD).unwrap();
    let words =
        ["run", "chart-room", "--password-from", &format!("file:{}", password.display()), "--", "more"];
    let outcome = desk.lantern_with_input(&words, noise.clone()).expect(0);
    assert!(outcome.out == noise, "{} bytes came back", outcome.out.len());
    let counted = [
        "run",
        "chart-room",
        "--password-from",
        &format!("file:{}", password.display()),
        "--",
        "count-input",
    ];
    assert_eq!(desk.lantern_with_input(&counted, noise).expect(0).text(), "700000\r\n");
    // A little goes before the first question, with its end.
    let before = windows.seen().connections;
    assert_eq!(desk.lantern_with_input(&counted, b"ebb".to_vec()).expect(0).text(), "3\r\n");
    let seen = windows.seen();
    assert!(seen.connections - before <= 2, "{seen:?}");
    let bytes = run(&desk, &["--no-input", "--", "write-bytes", "3000000"]).expect(0).out;
    let expected: Vec<u8> = (0..3_000_000usize).map(|n| (n % 8192 % 251) as u8).collect();
    assert!(bytes == expected, "{}", bytes.len());
    // A reader that goes away is no error, and leaves no shell behind.
    let mut child = desk
        .command(&[
            "run",
            "chart-room",
            "--no-input",
            "--password-from",
            &format!("file:{}", password.display()),
            "--",
            "write-bytes",
            "30000000",
        ])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(141));
    support::keeping::until("the shell is ended", || windows.seen().shells == 0);
}

#[test]
fn an_interrupt_reaches_the_program_and_a_second_one_ends_us() {
    let interrupted = |windows: &Windows| {
        let desk = desk_that_trusts(windows, &[]);
        let password = desk.folder.path().join("password");
        std::fs::write(&password, PASSWORD).unwrap();
        let from = format!("file:{}", password.display());
        let words = ["run", "chart-room", "--password-from", &from, "--", "wait"];
        let terminal = Screen::open(&desk, &words);
        terminal.wait_for("waiting");
        terminal.send("\x03");
        (desk, terminal)
    };
    let deaf = faulty(WindowsFault::Deaf);
    let (_desk, mut terminal) = interrupted(&deaf);
    terminal.wait_for("once more ends lantern");
    terminal.send("\x03");
    assert_eq!(terminal.wait_for_exit(), 252, "{}", terminal.text());

    let windows = Windows::light(chart_room());
    let (_desk, mut terminal) = interrupted(&windows);
    assert_eq!(terminal.wait_for_exit(), 58, "{}", terminal.text());
    assert!(terminal.text().contains("0xC000013A"), "{}", terminal.text());
    support::keeping::until("the shell is ended", || windows.seen().shells == 0);
}

/// Everything that goes wrong with a machine, with the step at which a check stops, its exit code, and words of its advice.
#[test]
fn faults_of_the_machine_that_change_nothing_change_nothing() {
    for fault in [WindowsFault::Utf16, WindowsFault::Chunked, WindowsFault::Crumbs, WindowsFault::NoUtf8] {
        let windows = faulty(fault);
        let desk = desk_that_trusts(&windows, &[]);
        assert_eq!(
            run(&desk, &["--", "tides", "3"]).expect(0).text(),
            "tide 1\r\ntide 2\r\ntide 3\r\n",
            "{fault:?}"
        );
    }
}

#[test]
fn a_lost_connection_never_ends_in_success() {
    let cut = faulty(WindowsFault::CutAnswer);
    let desk = desk_for(&cut, &[]);
    trust(&desk, &cut);
    let lost = run(&desk, &["--", "tides", "5"]).expect(251);
    assert!(lost.err.contains("lost"), "{}", lost.err);
    support::keeping::until("the shell is ended", || cut.seen().shells == 0);

    // Between two answers: the same shell is asked again, and what it says is shown.
    let waiting = faulty(WindowsFault::CutWaiting);
    let desk = desk_for(&waiting, &[]);
    trust(&desk, &waiting);
    let lost = run(&desk, &["--", "tides", "3"]).expect(251);
    assert_eq!(lost.text(), "tide 1\r\ntide 2\r\ntide 3\r\n", "{}", lost.err);
    assert!(lost.err.contains("may be missing") && lost.err.contains("ended with 0"), "{}", lost.err);

    // The account is locked meanwhile: what was refused once is not tried again, not even to end the shell.
    let locked = faulty(WindowsFault::LockedOut);
    let desk = desk_for(&locked, &[]);
    trust(&desk, &locked);
    run(&desk, &["--", "tides", "3"]).expect(249);
    assert_eq!(locked.seen().refused, 1);

    for fault in [WindowsFault::ShellVanishes, WindowsFault::ForgetLogin] {
        let gone = faulty(fault);
        let desk = desk_for(&gone, &[]);
        trust(&desk, &gone);
        let outcome = run(&desk, &["--", "tides", "3"]);
        assert!([250, 251].contains(&outcome.status), "{fault:?} {}: {}", outcome.status, outcome.err);
    }

    // Cut from outside while it runs, as a cable is.
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let password = desk.folder.path().join("password");
    std::fs::write(&password, PASSWORD).unwrap();
    let from = format!("file:{}", password.display());
    let words = ["run", "chart-room", "--password-from", &from, "--", "tides", "20", "100"];
    let child = desk
        .command(&words)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    thread::sleep(Duration::from_millis(700));
    windows.machine.cut();
    let outcome = child.wait_with_output().unwrap();
    let text = String::from_utf8_lossy(&outcome.stdout).into_owned();
    assert_eq!(outcome.status.code(), Some(251), "{text} {}", String::from_utf8_lossy(&outcome.stderr));
    assert!(text.ends_with("tide 20\r\n"), "{text}");
}

#[test]
fn what_only_ssh_has_is_refused_in_words() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    for words in [
        &["tunnel", "open", "chart-room", "--dynamic", "0"][..],
        &["key", "install", "harbour", "chart-room"],
        &["tunnel", "probe", "chart-room"],
    ] {
        let refused = desk.lantern(words);
        assert!((240..=251).contains(&refused.status), "{words:?} {}: {}", refused.status, refused.err);
    }
    // Nobody types a password for what cannot be.
    let visitors = windows.seen().connections;
    let mut terminal = Screen::open(&desk, &["shell", "chart-room", "--display"]);
    assert_eq!(terminal.wait_for_exit(), 240, "{}", terminal.text());
    assert!(terminal.text().contains("WinRM"), "{}", terminal.text());
    assert!(!terminal.text().contains("Password"), "{}", terminal.text());
    let broken =
        desk.lantern(&["run", "chart-room", "--interpreter", "--", "echo one\necho two"]).expect(240);
    assert!(broken.err.contains("line break"), "{}", broken.err);
    assert_eq!(windows.seen().connections, visitors);
}

/// What is written down of a visit, however much of it is wanted, has no password in it, proven or sent.
#[test]
fn no_log_has_a_secret() {
    for offers in [vec!["Negotiate"], vec!["Basic"]] {
        let by = if offers == ["Basic"] { "login-by=basic" } else { "login-by=ntlm" };
        let windows = Windows::light(WindowsSpec { offers, ..chart_room() });
        let desk = desk_for(&windows, &[by]);
        trust(&desk, &windows);
        let log = desk.folder.path().join("log");
        let words = ["--log", log.to_str().unwrap(), "-v"];
        let words = [&words[..], &support::windows::run_words(&["--", "hostname"])].concat();
        let outcome = desk.with_secrets(&words, PASSWORD, "").expect(0);
        let log = std::fs::read_to_string(&log).unwrap();
        assert!(!log.is_empty());
        for secret in [PASSWORD, "a2VlcGVyOmhpZ2ggd2F0ZXI", "TlRMTVNTUA", "Authorization", "hyper"] {
            assert!(
                !log.contains(secret) && !outcome.err.contains(secret),
                "{secret}: {log} {}",
                outcome.err
            );
        }
    }
}

/// A machine that has said which stack it has is asked for larger envelopes: fewer round trips for the same output.
#[test]
fn output_comes_in_larger_envelopes_once_the_stack_is_known() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let asked = || windows.seen().requests.iter().filter(|what| **what == "output").count();
    let questions = |desk: &support::Desk| {
        let before = asked();
        run(desk, &["--", "write-bytes", "2000000"]).expect(0);
        asked() - before
    };
    let small = questions(&desk);
    desk.with_secrets(&["check", "chart-room", "--password-from", "fd:3"], PASSWORD, "").expect(0);
    let large = questions(&desk);
    assert!(large < small, "{small} {large}");
}

/// TCP, TLS, the challenge, the shell, the program, its output: each needs what the one before answered.
#[test]
fn the_first_output_is_there_after_six_round_trips() {
    let windows = Windows::light(chart_room());
    let (link, _light) = delayed(windows.address);
    let desk = desk_that_trusts(&windows, &[]);
    let port = format!("port={}", link.address.port());
    desk.lantern(&["machine", "set", "chart-room", "address=127.0.0.1", &port]).expect(0);
    trust(&desk, &windows);
    link.reset();
    assert_eq!(run(&desk, &["--", "hostname"]).expect(0).text(), "CHART-ROOM\r\n");
    // The end of the shell is one more. Tickets that come after the handshake may be counted as an answer, which nobody waits for.
    assert!(matches!(link.round_trips(), 7 | 8), "{}", link.round_trips());
    // Who is known by their certificate needs nobody to vouch for them, and one connection is enough.
    assert_eq!(windows.seen().connections, 2);
}

#[test]
fn a_command_that_fails_on_its_way_to_a_third_machine_is_told_why_that_may_be() {
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let words = ["--", "complain", r"\\store-room\tides"];
    let outcome = run(&desk, &words).expect(2);
    assert!(
        outcome.err.contains("goes on to store-room") && outcome.err.contains("delegate-ticket"),
        "{}",
        outcome.err
    );
    // One that stays there, one that works, and where a ticket was handed over, nothing is said.
    assert!(!run(&desk, &["--", "complain", r"C:\logs"]).expect(2).err.contains("second hop"));
    assert!(!run(&desk, &["--", "show-words", r"\\store-room\tides"]).expect(0).err.contains("second hop"));
    desk.lantern(&["machine", "set", "chart-room", "delegate-ticket=true"]).expect(0);
    assert!(!run(&desk, &words).expect(2).err.contains("second hop"));
}
