//! What speaks against a ticket, and machines and centres that are not what they should be.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::io::{Read, Write};

use lantern_harbour::{WindowsFault, WindowsSpec};
use support::Outcome;
use support::coast::{Coast, PLAIN, SERVICE};
use support::windows::{PASSWORD, Windows, chart_room, desk_for, trust};

#[test]
fn a_machine_that_does_not_prove_itself_runs_nothing_and_gets_no_password() {
    for (fault, words) in [
        (WindowsFault::NoProof, "did not prove that it is the machine"),
        (WindowsFault::ForgedProof, "the machine refused the ticket for"),
    ] {
        for is_plain in [false, true] {
            let change = |spec: &mut WindowsSpec| {
                spec.fault = Some(fault);
                if is_plain {
                    spec.certificate = None;
                }
            };
            let Some(coast) = Coast::new(change, if is_plain { &[PLAIN] } else { &[] }) else { return };
            coast.ticket(&[]);
            let outcome = coast.by_password(PASSWORD).expect(249);
            assert!(outcome.err.contains(words) && outcome.out.is_empty(), "{}", outcome.err);
            // Neither is NTLM tried, nor anything said where the machine's word is all that there is.
            assert_eq!(coast.windows.seen().logins, 1);
            assert!(!is_plain || coast.windows.seen().requests.is_empty(), "{:?}", coast.windows.seen());
        }
    }
}

#[test]
fn every_reason_against_a_ticket_is_told_with_its_mend() {
    let Some(coast) = Coast::new(|_| (), &["login-by=kerberos"]) else { return };
    let failed = |wanted: &str, command: &str| {
        let account = coast.check(249);
        let text = account.to_string();
        assert!(text.contains(wanted), "{wanted}: {account:#}");
        assert!(text.contains(command), "{command}: {account:#}");
        assert_eq!(account["failed_step"], "login", "{account:#}");
    };
    // No ticket: a password is wanted instead.
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("nobody to ask"), "{}", outcome.err);
    coast.ticket(&[]);
    coast.run().expect(0);
    // No such service: followed by the mend that is told.
    coast.set("service-name=HTTP/fog-bell.coast.example");
    failed("it knows no such service", "service-name=HTTP/");
    coast.set(&format!("service-name={SERVICE}"));
    coast.run().expect(0);
    // An address.
    coast.set("service-name=");
    failed("a bare IP address has no Kerberos", "service-name=HTTP/NAME.DOMAIN");
    coast.set(&format!("service-name={SERVICE}"));
    // The key of the service was changed, and the machine does not know.
    coast.realm.admin(&format!("change_password -pw another {SERVICE}"));
    std::fs::remove_file(coast.cache.trim_start_matches("FILE:")).unwrap();
    coast.ticket(&[]);
    let outcome = coast.run().expect(249);
    assert!(
        outcome.err.contains("the key is another one")
            && outcome.err.contains(&format!("setspn -Q {SERVICE}")),
        "{}",
        outcome.err
    );
    // One of the machine's own users.
    coast.set(r"user=.\keeper");
    failed("whom no realm knows", "login-by=ntlm");
}

#[test]
fn clocks_that_differ_are_told_by_the_realm_and_by_the_machine() {
    let Some(coast) = Coast::new(|spec| spec.clock_off = 900, &[]) else { return };
    coast.ticket(&[]);
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("its clock and ours differ by too much"), "{}", outcome.err);
    assert!(outcome.err.contains("900 s ahead") || outcome.err.contains("899 s ahead"), "{}", outcome.err);
    let account = coast.check(249);
    assert_eq!(account["failed_step"], "login", "{account:#}");
}

#[test]
fn a_password_that_the_realm_refuses_is_shown_to_it_once_however_many_machines_there_are() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    for copy in ["log-room", "fog-bell", "tide-gauge"] {
        coast.desk.lantern(&["machine", "copy", "chart-room", copy]).expect(0);
    }
    let certificate = coast.desk.folder.path().join("certificate.der");
    for machine in ["log-room", "fog-bell", "tide-gauge"] {
        let words = ["trust", "accept", machine, "--certificate", certificate.to_str().unwrap()];
        coast.desk.lantern(&words).expect(0);
    }
    let words = ["check", "*", "--json", "--password-from", "fd:3"];
    let outcome = coast.with_password(&words, "low water");
    assert_ne!(outcome.status, 0);
    assert_eq!(coast.realm.log().matches("PREAUTH_FAILED").count(), 1, "{}", coast.realm.log());
    assert!(outcome.text().contains("not tried"), "{}", outcome.text());
    // Another one is tried, and taken.
    coast.with_password(&words, PASSWORD).expect(0);
}

/// What stands in for a centre: takes connections, and says this to each.
fn false_centre(says: &'static [u8]) -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            std::thread::spawn(move || {
                let _ = stream.read(&mut [0; 4096]);
                let _ = stream.write_all(says);
                // It stays, and says no more.
                let _ = stream.read(&mut [0; 4096]);
            });
        }
    });
    port
}

#[test]
fn what_answers_for_a_centre_without_being_one_is_told_as_such() {
    let windows = Windows::light(chart_room());
    let service = format!("service-name={SERVICE}");
    let desk = desk_for(&windows, &[&service, "user=keeper@coast.example", "login-by=kerberos"]);
    trust(&desk, &windows);
    let configuration = desk.folder.path().join("krb5.conf");
    let run = |port: u16| {
        let text = format!("[realms]\nCOAST.EXAMPLE = {{\nkdc = 127.0.0.1:{port}\n}}\n");
        std::fs::write(&configuration, text).unwrap();
        let file = desk.folder.path().join("password");
        std::fs::write(&file, PASSWORD).unwrap();
        let from = format!("file:{}", file.display());
        let words = ["run", "chart-room", "--no-questions", "--password-from", &from, "--", "whoami"];
        let mut command = desk.command(&words);
        let outcome: Outcome = command.env("KRB5_CONFIG", &configuration).output().unwrap().into();
        outcome.expect(249).err
    };
    // A port where nobody is; a length without end; an answer that breaks off; HTTP; nonsense; a message of another kind.
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    assert!(run(closed).contains("nothing listens on that port"));
    for (says, words) in [
        (&b"\xff\xff\xff\xff"[..], "longer than any"),
        (b"\x00\x00\x00\x20half", "no answer within"),
        (b"HTTP/1.1 400 Bad Request\r\n\r\n", "longer than any"),
        (b"\x00\x00\x00\x04none", "damaged"),
        (b"\x00\x00\x00\x04\x6d\x02\x30\x00", "damaged"),
    ] {
        let err = run(false_centre(says));
        assert!(err.contains(words), "{words}: {err}");
        assert!(err.contains("COAST.EXAMPLE"), "{err}");
    }
    assert_eq!(windows.seen().refused, 0);
}

/// A centre that passes the first question on, and hangs up at the proof of a password.
fn centre_that_hangs_up(real: u16) -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for (count, stream) in listener.incoming().enumerate() {
            let Ok(mut near) = stream else { return };
            let mut message = vec![0; 4096];
            let len = near.read(&mut message).unwrap();
            if count == 0 {
                let mut far = std::net::TcpStream::connect(("127.0.0.1", real)).unwrap();
                far.write_all(&message[..len]).unwrap();
                let len = far.read(&mut message).unwrap();
                near.write_all(&message[..len]).unwrap();
            }
        }
    });
    port
}

#[test]
fn a_proof_that_nobody_answered_is_shown_to_nobody_else() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    let real = coast.realm.port;
    let hangs_up = centre_that_hangs_up(real);
    // Another centre would answer, and so would the machine itself.
    let text =
        format!("[realms]\nCOAST.EXAMPLE = {{\nkdc = 127.0.0.1:{hangs_up}\nkdc = 127.0.0.1:{real}\n}}\n");
    std::fs::write(coast.realm.configuration(), text).unwrap();
    let outcome = coast.by_password("low water").expect(249);
    assert!(outcome.err.contains("shown the proof of the password"), "{}", outcome.err);
    let log = coast.realm.log();
    assert_eq!(
        (log.matches("NEEDED_PREAUTH").count(), log.matches("PREAUTH_FAILED").count()),
        (1, 0),
        "{log}"
    );
    assert_eq!((coast.windows.seen().logins, coast.windows.seen().refused), (0, 0));
}
