//! Machines of Windows as people meet them: first contact, logins, commands, and everything that goes wrong, each with its step, its words and its exit
//! code; and the mend that is advised, followed.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::net::SocketAddr;
use std::process::Stdio;
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use lantern_harbour::{LitWindows, Rights, Seen, ServerCertificate, WindowsFault, WindowsSpec};
use lantern_keys::TlsCertificate;
use serde_json::Value;
use support::{Desk, Light, Screen, kindle};

const PASSWORD: &str = "high water";

struct Windows {
    address: SocketAddr,
    machine: Arc<LitWindows>,
    fingerprint: String,
    thumbprint: String,
    _light: Light,
}

impl Windows {
    fn light(spec: WindowsSpec) -> Self {
        let certificate = spec.certificate.as_ref().map(|own| TlsCertificate::read(&own.chain[0]).unwrap());
        let fingerprint = certificate.as_ref().map(|own| own.fingerprint().to_string()).unwrap_or_default();
        let thumbprint = certificate.map(|own| own.thumbprint()).unwrap_or_default();
        let light = async || LitWindows::light(spec).await.map(Arc::new);
        let (machine, light) = kindle(light, Arc::clone);
        Self { address: machine.address, machine, fingerprint, thumbprint, _light: light }
    }

    fn seen(&self) -> Seen {
        self.machine.seen()
    }
}

fn chart_room() -> WindowsSpec {
    WindowsSpec::new("chart-room", 15, "keeper", PASSWORD).unwrap()
}

fn faulty(fault: WindowsFault) -> Windows {
    Windows::light(WindowsSpec { fault: Some(fault), ..chart_room() })
}

/// A desk whose book has the machine, as it is.
fn desk_for(windows: &Windows, settings: &[&str]) -> Desk {
    let desk = Desk::new();
    let (address, port) = (windows.address.ip().to_string(), format!("port={}", windows.address.port()));
    let words = ["machine", "add", "chart-room", &address, &port, "protocol=winrm", "user=keeper"];
    desk.lantern(&[&words[..], settings].concat()).expect(0);
    desk
}

/// The same, with the certificate trusted.
fn desk_that_trusts(windows: &Windows, settings: &[&str]) -> Desk {
    let desk = desk_for(windows, settings);
    let words = run_words(&["--expect", &windows.fingerprint, "--", "hostname"]);
    let outcome = desk.with_secrets(&words, PASSWORD, "");
    assert_eq!(outcome.status, 0, "{}", outcome.err);
    desk
}

fn run_words<'w>(words: &[&'w str]) -> Vec<&'w str> {
    [&["run", "chart-room", "--password-from", "fd:3"], words].concat()
}

fn run(desk: &Desk, words: &[&str]) -> support::Outcome {
    desk.with_secrets(&run_words(words), PASSWORD, "")
}

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
    let windows = Windows::light(chart_room());
    let desk = desk_that_trusts(&windows, &[]);
    let password = desk.folder.path().join("password");
    std::fs::write(&password, PASSWORD).unwrap();
    let from = format!("file:{}", password.display());
    let words = ["run", "chart-room", "--password-from", &from, "--", "wait"];
    let mut terminal = Screen::open(&desk, &words);
    terminal.wait_for("waiting");
    terminal.send("\x03");
    assert_eq!(terminal.wait_for_exit(), 58, "{}", terminal.text());
    assert!(terminal.text().contains("0xC000013A"), "{}", terminal.text());
    support::keeping::until("the shell is ended", || windows.seen().shells == 0);
}

#[test]
fn first_contact_shows_the_certificate_and_everything_that_speaks_against_it() {
    let mut params = rcgen::CertificateParams::new(vec!["tide-gauge.example".to_owned()]).unwrap();
    params.not_before = rcgen::date_time_ymd(2020, 1, 1);
    params.not_after = rcgen::date_time_ymd(2021, 1, 1);
    let certificate = Some(ServerCertificate::of(params).unwrap());
    let windows = Windows::light(WindowsSpec { certificate, ..chart_room() });
    let desk = desk_for(&windows, &[]);
    let words = ["run", "chart-room", "--", "hostname"];
    let mut terminal = Screen::open(&desk, &words);
    let text = terminal.wait_for("thumbprint, or `trust`:");
    for told in [
        windows.fingerprint.as_str(),
        windows.thumbprint.as_str(),
        "it signed itself",
        "it ended on 2021-01-01",
        "it is for tide-gauge.example, and not for 127.77.1.15",
    ] {
        assert!(text.replace("\r\n", " ").contains(told), "{told}: {text}");
    }
    // Another's thumbprint is no answer to trust by; its own is, and recorded as weak.
    terminal.send(&format!("{}\r", "0".repeat(40)));
    assert_eq!(terminal.wait_for_exit(), 248, "{}", terminal.text());
    assert_eq!(windows.seen().requests.len(), 0);
    let mut terminal = Screen::open(&desk, &words);
    terminal.wait_for("thumbprint, or `trust`:");
    let pairs: Vec<&str> =
        windows.thumbprint.as_bytes().chunks(2).map(|pair| std::str::from_utf8(pair).unwrap()).collect();
    terminal.send(&format!("{}\r", pairs.join(":").to_lowercase()));
    terminal.wait_for("Password");
    terminal.send(&format!("{PASSWORD}\r"));
    terminal.wait_for("CHART-ROOM");
    assert_eq!(terminal.wait_for_exit(), 0, "{}", terminal.text());
    let record = desk.lantern(&["trust", "show", "chart-room"]).expect(0);
    assert!(record.text().contains("thumbprint"), "{}", record.text());
    // Known, it is believed past its date, with a warning.
    let outcome = run(&desk, &["--", "hostname"]).expect(0);
    assert!(outcome.err.contains("ended on 2021-01-01"), "{}", outcome.err);
}

#[test]
fn a_fingerprint_in_hexadecimal_is_one() {
    let windows = Windows::light(chart_room());
    let certificate = TlsCertificate::read(&windows_certificate(&windows)).unwrap();
    let hex: Vec<String> =
        certificate.fingerprint().as_bytes().iter().map(|byte| format!("{byte:02X}")).collect();
    for form in [hex.join(""), hex.join(":")] {
        let desk = desk_for(&windows, &[]);
        run(&desk, &["--expect", &form, "--", "hostname"]).expect(0);
    }
    let desk = desk_for(&windows, &[]);
    let other = "AB".repeat(32);
    let refused = run(&desk, &["--expect", &other, "--", "hostname"]).expect(248);
    assert!(refused.err.contains("presented the certificate"), "{}", refused.err);
    assert_eq!(run(&desk, &["--", "hostname"]).expect(248).out, b"");
}

fn windows_certificate(windows: &Windows) -> Vec<u8> {
    windows.machine.certificate().unwrap()
}

#[test]
fn another_certificate_is_refused_and_told_as_what_it_is() {
    let first = Windows::light(chart_room());
    let desk = desk_that_trusts(&first, &[]);
    let second = Windows::light(WindowsSpec { name: "CHART-ROOM".into(), ..chart_room() });
    desk.lantern(&["machine", "set", "chart-room", &format!("port={}", second.address.port())]).expect(0);
    let refused = run(&desk, &["--", "hostname"]).expect(248);
    assert!(
        refused.err.contains("another certificate than it had") && refused.err.contains("another key"),
        "{}",
        refused.err
    );
    assert_eq!(second.seen().requests.len() + second.seen().logins + second.seen().refused, 0);
}

fn check(desk: &Desk, status: i32) -> Value {
    let words = [
        "check",
        "--no-questions",
        "--json",
        "--connect-limit",
        "2",
        "--handshake-limit",
        "3",
        "--login-limit",
        "3",
        "--password-from",
        "fd:3",
        "chart-room",
    ];
    let outcome = desk.with_secrets(&words, PASSWORD, "");
    let value: Value = serde_json::from_str(outcome.text()).unwrap_or_else(|_| panic!("{}", outcome.err));
    assert_eq!(outcome.status, status, "{value:#}");
    value[0].clone()
}

/// Everything that goes wrong with a machine, with the step at which a check stops, its exit code, and words of its advice.
#[test]
fn every_step_that_fails_is_told_with_its_meaning_and_a_command() {
    type Change = fn(WindowsSpec) -> WindowsSpec;
    let plain: Change = |spec| WindowsSpec { certificate: None, ..spec };
    let table: Vec<(Change, &[&str], &str, i32, &str)> = vec![
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::NoCertificate), ..spec },
            &[],
            "TLS",
            246,
            "New-SelfSignedCertificate",
        ),
        (plain, &[], "TLS", 246, "winrm enumerate"),
        (|spec| spec, &["plain=private-network"], "TLS", 246, "lantern machine set chart-room plain="),
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::Redirect), ..spec },
            &[],
            "service",
            246,
            "never followed",
        ),
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::NotFound), ..spec },
            &[],
            "service",
            246,
            "path=/wsman",
        ),
        (|spec| spec, &["path=/elsewhere"], "service", 246, "path=/wsman"),
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::Stopped), ..spec },
            &[],
            "service",
            244,
            "Restart-Service WinRM",
        ),
        (|spec| WindowsSpec { offers: vec!["Basic"], ..spec }, &[], "methods", 249, "login=basic"),
        (|spec| WindowsSpec { offers: vec!["Kerberos"], ..spec }, &[], "methods", 249, "Negotiate"),
        (
            |spec| WindowsSpec { domain: "COAST".into(), users: Vec::new(), ..spec },
            &[],
            "login",
            249,
            "COAST\\\\keeper",
        ),
        (
            |mut spec| {
                spec.users[0].rights = Rights::None;
                spec
            },
            &[],
            "shell",
            250,
            "Remote Management Users",
        ),
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::ShellQuota), ..spec },
            &[],
            "shell",
            250,
            "MaxShellsPerUser",
        ),
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::NoShells), ..spec },
            &[],
            "shell",
            250,
            "AllowRemoteShellAccess",
        ),
        (
            |spec| WindowsSpec { fault: Some(WindowsFault::Silent), ..spec },
            &[],
            "methods",
            245,
            "Restart-Service WinRM",
        ),
        (
            |spec| WindowsSpec { certificate: None, fault: Some(WindowsFault::Clear), ..spec },
            &["plain=private-network"],
            "login",
            246,
            "sealed",
        ),
        (
            |spec| WindowsSpec { certificate: None, fault: Some(WindowsFault::WantsClear), ..spec },
            &["plain=private-network"],
            "login",
            246,
            "in the clear",
        ),
    ];
    for (change, settings, stage, status, words) in table {
        let windows = Windows::light(change(chart_room()));
        let desk = desk_for(&windows, settings);
        trust(&desk, &windows);
        let account = check(&desk, status);
        assert_eq!(account["failed_step"], stage, "{account:#}");
        assert!(account.to_string().contains(words), "{words}: {account:#}");
        assert_eq!(windows.seen().shells, 0);
    }
}

/// As a team shares it: what is known beforehand.
fn trust(desk: &Desk, windows: &Windows) {
    let Some(der) = windows.machine.certificate() else { return };
    let file = desk.folder.path().join("certificate.der");
    std::fs::write(&file, der).unwrap();
    desk.lantern(&["trust", "accept", "chart-room", "--certificate", file.to_str().unwrap()]).expect(0);
}

#[test]
fn a_machine_that_is_well_is_told_step_by_step() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let account = check(&desk, 248);
    assert_eq!(account["failed_step"], "certificate", "{account:#}");
    trust(&desk, &windows);
    let account = check(&desk, 0);
    let names: Vec<&str> =
        account["steps"].as_array().unwrap().iter().map(|step| step["step"].as_str().unwrap()).collect();
    assert!(
        names.starts_with(&["book", "port", "TLS", "certificate", "methods", "login", "service", "shell"]),
        "{names:?}"
    );
    assert!(account.to_string().contains("Stack: 3.0"), "{account:#}");
    // Nobody is asked twice: one login.
    assert_eq!(windows.seen().logins, 1);
    assert_eq!(windows.seen().shells, 0);
}

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
fn over_plain_http_messages_are_sealed_and_the_book_must_say_so() {
    let windows = Windows::light(WindowsSpec { certificate: None, ..chart_room() });
    let desk = desk_for(&windows, &["plain=private-network"]);
    let outcome = run(&desk, &["--", "write-bytes", "200000"]).expect(0);
    assert_eq!(outcome.out.len(), 200_000);
    assert!(outcome.err.contains("proves nothing of itself"), "{}", outcome.err);
    for fault in [WindowsFault::Utf16, WindowsFault::Chunked] {
        let windows = Windows::light(WindowsSpec { certificate: None, fault: Some(fault), ..chart_room() });
        let desk = desk_for(&windows, &["plain=private-network"]);
        run(&desk, &["--", "hostname"]).expect(0);
    }
    // A message that comes twice does not open.
    let windows =
        Windows::light(WindowsSpec { certificate: None, fault: Some(WindowsFault::Repeat), ..chart_room() });
    let desk = desk_for(&windows, &["plain=private-network"]);
    run(&desk, &["--", "hostname"]).expect(246);
    let basic = desk_for(&windows, &["plain=private-network", "login=basic"]);
    assert!(run(&basic, &["--", "hostname"]).expect(241).err.contains("login=ntlm"));
}

#[test]
fn a_password_goes_as_it_is_only_where_the_book_says_so() {
    let windows = Windows::light(WindowsSpec { offers: vec!["Basic"], ..chart_room() });
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    let refused = run(&desk, &["--", "hostname"]).expect(249);
    assert!(refused.err.contains("it offers Basic"), "{}", refused.err);
    assert_eq!(windows.seen().refused, 1);
    desk.lantern(&["machine", "set", "chart-room", "login=basic"]).expect(0);
    run(&desk, &["--", "hostname"]).expect(0);
}

#[test]
fn a_wrong_password_is_tried_once() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    let words = run_words(&["--", "hostname"]);
    let refused = desk.with_secrets(&words, "low water", "").expect(249);
    assert!(
        refused.err.contains("did not let keeper in") && refused.err.contains("tried once"),
        "{}",
        refused.err
    );
    assert_eq!((windows.seen().refused, windows.seen().logins), (1, 0));
    for user in [r"CHART-ROOM\keeper", r".\keeper", "keeper@lights.example"] {
        desk.lantern(&["machine", "set", "chart-room", &format!("user={user}")]).expect(0);
        run(&desk, &["--", "hostname"]).expect(0);
    }
    let nobody = desk.lantern(&["run", "chart-room", "--no-questions", "--", "hostname"]).expect(249);
    assert!(nobody.err.contains("--password-from"), "{}", nobody.err);
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
    let mut terminal = Screen::open(&desk, &["shell", "chart-room"]);
    terminal.wait_for("Password");
    terminal.send(&format!("{PASSWORD}\r"));
    assert_eq!(terminal.wait_for_exit(), 240, "{}", terminal.text());
    assert!(terminal.text().contains("WinRM"), "{}", terminal.text());
}
