//! Trust in machines of Windows, logins, and every step that can fail, with its words, its exit code and its mend.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{Rights, ServerCertificate, WindowsFault, WindowsSpec};
use lantern_keys::TlsCertificate;
use serde_json::Value;
use support::Screen;
use support::windows::{
    PASSWORD, Windows, chart_room, check, desk_for, desk_that_trusts, run, run_words, trust,
};

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
    let certificate = TlsCertificate::read(&windows.machine.certificate().unwrap()).unwrap();
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
        (|spec| WindowsSpec { offers: vec!["Basic"], ..spec }, &[], "methods", 249, "login-by=basic"),
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
    let basic = desk_for(&windows, &["plain=private-network", "login-by=basic"]);
    assert!(run(&basic, &["--", "hostname"]).expect(241).err.contains("login-by=ntlm"));
}

#[test]
fn a_password_goes_as_it_is_only_where_the_book_says_so() {
    let windows = Windows::light(WindowsSpec { offers: vec!["Basic"], ..chart_room() });
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    let refused = run(&desk, &["--", "hostname"]).expect(249);
    assert!(refused.err.contains("it offers Basic"), "{}", refused.err);
    assert_eq!(windows.seen().refused, 1);
    desk.lantern(&["machine", "set", "chart-room", "login-by=basic"]).expect(0);
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

/// A listener that is missing beside one that is there, with an address of its own, since the usual ports are meant.
/// A check that stops at the certificate says everything that is wrong with it.
#[test]
fn every_reason_of_a_certificate_is_told_at_once() {
    let mut params = rcgen::CertificateParams::new(vec!["tide-gauge.example".to_owned()]).unwrap();
    params.not_before = rcgen::date_time_ymd(2020, 1, 1);
    params.not_after = rcgen::date_time_ymd(2021, 1, 1);
    params.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ClientAuth];
    let certificate = Some(ServerCertificate::of(params).unwrap());
    let windows = Windows::light(WindowsSpec { certificate, ..chart_room() });
    let desk = desk_for(&windows, &[]);
    let account = check(&desk, 248);
    assert_eq!(account["failed_step"], "certificate");
    for words in [
        "it signed itself",
        "it ended on 2021-01-01",
        "it is for tide-gauge.example",
        "not meant for servers",
    ] {
        assert!(account.to_string().contains(words), "{words}: {account:#}");
    }
}

/// Accounts lock: of many machines one finds out what a password is worth.
#[test]
fn a_password_that_one_machine_refuses_is_not_tried_at_the_others() {
    let names = ["chart-room", "log-room", "signal-room", "store-room", "tide-room"];
    let rooms = names.map(|_| Windows::light(chart_room()));
    let desk = desk_for(&rooms[0], &[]);
    trust(&desk, &rooms[0]);
    for (name, room) in names.iter().zip(&rooms).skip(1) {
        let (address, port) = (room.address.ip().to_string(), format!("port={}", room.address.port()));
        desk.lantern(&["machine", "add", name, &address, &port, "protocol=winrm", "user=Keeper"]).expect(0);
        desk.lantern(&["trust", "accept", name, "--expect", &room.fingerprint]).expect(0);
    }
    let check = |password: &str| {
        let words = ["check", "*-room", "--no-questions", "--json", "--password-from", "fd:3"];
        let outcome = desk.with_secrets(&words, password, "");
        (outcome.status, serde_json::from_str::<Value>(outcome.text()).unwrap())
    };
    let refused = || rooms.iter().map(|room| room.seen().refused).sum::<usize>();
    let (status, accounts) = check("low water");
    assert_eq!((status, refused()), (249, 1), "{accounts:#}");
    let spared = accounts.to_string().matches("was not tried, since").count();
    assert!(spared >= 4, "{accounts:#}");
    // The right one is good for all of them.
    let (status, accounts) = check(PASSWORD);
    assert_eq!((status, refused()), (0, 1), "{accounts:#}");
}
