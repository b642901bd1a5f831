//! Logins at machines of Windows by a certificate of ours.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::process::{Command, Stdio};

use lantern_harbour::{WindowsFault, WindowsSpec};
use serde_json::Value;
use support::windows::{Windows, chart_room, desk_for, trust};
use support::{Desk, Outcome, Screen};

/// Makes a certificate for a key of a desk's ring, by another program; in DER, and in a file with armour.
fn certify(desk: &Desk, key: &str) -> (Vec<u8>, String) {
    let file = desk.folder.path().join(format!("{key}.pkcs8"));
    let words = ["key", "convert", key, "--to", "pkcs8-pem", "--out", file.to_str().unwrap(), "--plain"];
    desk.lantern(&words).expect(0);
    let armoured = desk.folder.path().join(format!("{key}.crt"));
    let openssl = |words: &str, rest: &[&str]| {
        let mut command = Command::new("openssl");
        command.args(words.split(' ')).args(rest).stderr(Stdio::null());
        let output = command.output().unwrap();
        assert!(output.status.success(), "{words}");
        output.stdout
    };
    let (key, out) = (file.to_str().unwrap(), armoured.to_str().unwrap());
    openssl("req -x509 -days 40 -subj /CN=keeper -key", &[key, "-out", out]);
    let der = openssl("x509 -outform DER -in", &[out]);
    (der, out.to_owned())
}

/// A machine that knows its keeper by a certificate, and a desk with that.
fn by_certificate(algorithm: &str, fault: Option<WindowsFault>) -> (Windows, Desk) {
    let makers = Desk::new();
    makers.lantern(&["key", "new", "coast", "--plain", "--algorithm", algorithm]).expect(0);
    let (der, file) = certify(&makers, "coast");
    let client_certificates = vec![(der, "keeper".to_owned())];
    let windows = Windows::light(WindowsSpec { client_certificates, fault, ..chart_room() });
    let desk = desk_for(&windows, &[]);
    desk.lantern(&[
        "key",
        "import",
        makers.folder.path().join("coast.pkcs8").to_str().unwrap(),
        "--name",
        "coast",
        "--plain",
    ])
    .expect(0);
    let kept = desk.folder.path().join("coast.crt");
    std::fs::copy(file, &kept).unwrap();
    let certificate = format!("certificate={}", kept.display());
    desk.lantern(&["machine", "set", "chart-room", "login-by=certificate", "key=coast", &certificate])
        .expect(0);
    trust(&desk, &windows);
    (windows, desk)
}

fn run(desk: &Desk) -> Outcome {
    desk.lantern(&["run", "chart-room", "--no-questions", "--", "whoami"])
}

#[test]
fn every_kind_of_key_logs_in_and_nobody_is_asked() {
    for algorithm in ["ecdsa-p256", "ecdsa-p384", "rsa-3072", "ed25519"] {
        let (windows, desk) = by_certificate(algorithm, None);
        let outcome = run(&desk).expect(0);
        assert_eq!(outcome.text().trim().to_lowercase(), r"chart-room\keeper", "{algorithm}");
        assert_eq!((windows.seen().logins, windows.seen().refused), (1, 0));
        let checked = desk.lantern(&["check", "--no-questions", "--json", "chart-room"]).expect(0);
        assert!(checked.text().contains("by the certificate of CN=keeper, within TLS"), "{}", checked.text());
    }
}

#[test]
fn a_machine_that_asks_too_late_is_told_as_such_with_its_mend() {
    let (_windows, desk) = by_certificate("ecdsa-p256", Some(WindowsFault::AsksLate));
    let outcome = run(&desk).expect(249);
    assert!(outcome.err.contains("did not ask for a certificate"), "{}", outcome.err);
    assert!(outcome.err.contains("clientcertnegotiation=enable"), "{}", outcome.err);
    let checked = desk.lantern(&["check", "--no-questions", "--json", "chart-room"]).expect(249);
    let value: Value = serde_json::from_str(checked.text()).unwrap();
    assert_eq!(value[0]["failed_step"], "TLS");
}

#[test]
fn a_certificate_that_is_unknown_there_is_refused_with_what_to_look_at() {
    let (windows, desk) = by_certificate("ecdsa-p256", None);
    desk.lantern(&["key", "new", "other", "--plain", "--algorithm", "ecdsa-p256"]).expect(0);
    let (_, file) = certify(&desk, "other");
    desk.lantern(&["machine", "set", "chart-room", "key=other", &format!("certificate={file}")]).expect(0);
    let outcome = run(&desk).expect(249);
    assert!(
        outcome.err.contains("did not let CN=keeper in") && outcome.err.contains("certmapping"),
        "{}",
        outcome.err
    );
    assert_eq!(windows.seen().logins, 0);
}

#[test]
fn what_does_not_belong_together_is_told_before_anybody_is_visited() {
    let (windows, desk) = by_certificate("ecdsa-p256", None);
    desk.lantern(&["key", "new", "other", "--plain", "--algorithm", "ecdsa-p256"]).expect(0);
    let (met, set) = (windows.seen().connections, |words: &[&str]| {
        desk.lantern(&[&["machine", "set", "chart-room"], words].concat()).expect(0);
    });
    let failed = |words: &str| {
        let outcome = run(&desk).expect(241);
        assert!(outcome.err.contains(words), "{words}: {}", outcome.err);
    };
    set(&["key=other"]);
    failed("it is for another key");
    set(&["key="]);
    failed("does not say which key");
    let broken = desk.folder.path().join("broken.crt");
    for (bytes, words) in [
        (&b"nothing"[..], "no certificate"),
        (b"-----BEGIN CERTIFICATE-----\n!\n-----END CERTIFICATE-----\n", "armour is damaged"),
    ] {
        std::fs::write(&broken, bytes).unwrap();
        set(&["key=coast", &format!("certificate={}", broken.display())]);
        failed(words);
    }
    set(&["certificate=/nonexistent/coast.crt"]);
    failed("No such file");
    set(&["certificate="]);
    failed("`certificate` does not say which");
    set(&["plain=private-network"]);
    failed("without TLS");
    assert_eq!(windows.seen().connections, met);
}

#[test]
fn a_key_behind_a_passphrase_is_opened_at_the_terminal() {
    let (_windows, desk) = by_certificate("ecdsa-p256", None);
    let words = ["key", "passphrase", "coast", "--new-passphrase-from", "fd:3"];
    desk.with_secrets(&words, "reef", "").expect(0);
    let mut terminal = Screen::open(&desk, &["run", "chart-room", "--", "whoami"]);
    terminal.wait_for("assphrase");
    terminal.send("reef\r");
    terminal.wait_for("keeper");
    assert_eq!(terminal.wait_for_exit(), 0, "{}", terminal.text());
}
