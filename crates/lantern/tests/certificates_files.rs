//! Certificates that go to other programs and come from them: requests, PKCS#12, scripts.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;

use support::Screen;
use support::certificates::{agrees, house, openssl, value};

#[test]
fn a_request_keeps_its_key_where_it_is() {
    let desk = house("192.0.2.9", 5986);
    let request = [
        "req",
        "-new",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-subj",
        "/CN=bank.example",
        "-addext",
        "subjectAltName=DNS:bank.example",
        "-keyout",
        "its.key",
        "-out",
        "its.csr",
    ];
    assert!(agrees(&desk, &request));
    let made = desk
        .lantern(&["certificate", "issue", "chart-room", "--name", "charts", "--request", "its.csr"])
        .expect(0);
    // Whoever asks does not say whom it is for.
    assert!(
        made.text().contains("chart-room.example, 192.0.2.9, chart-room") && !made.text().contains("bank"),
        "{}",
        made.text()
    );
    assert!(made.err.contains("its names count for nothing"), "{}", made.err);
    desk.lantern(&["certificate", "export", "charts", "--to", "der", "--out", "its.der"]).expect(0);
    let of_key = openssl(&desk, &["pkey", "-in", "its.key", "-pubout"]).stdout;
    let of_certificate =
        openssl(&desk, &["x509", "-in", "its.der", "-inform", "DER", "-noout", "-pubkey"]).stdout;
    assert_eq!(of_key, of_certificate);
    for (words, told) in [
        (&["certificate", "export", "charts", "--to", "pkcs12", "--out", "x.p12"][..], "its key"),
        (&["certificate", "renew", "charts"], "lantern certificate renew charts --request FILE"),
        (
            &[
                "machine",
                "prepare",
                "chart-room",
                "--system",
                "windows",
                "--from",
                "192.0.2.4",
                "--certificate",
                "charts",
            ],
            "it was made by a request",
        ),
    ] {
        let refused = desk.lantern(words).expect(240);
        assert!(
            refused.err.contains(told) || refused.err.contains("is not here"),
            "{words:?} {}",
            refused.err
        );
    }
    // Asked again with a new key.
    assert!(agrees(&desk, &request));
    desk.lantern(&["certificate", "renew", "charts", "--request", "its.csr"]).expect(0);
    // A request that another key signed proves nothing.
    let text = fs::read_to_string(desk.folder.path().join("its.csr")).unwrap();
    let at = text.len() - 60;
    let other = if text.as_bytes()[at] == b'A' { "B" } else { "A" };
    let mut damaged = text;
    damaged.replace_range(at..=at, other);
    fs::write(desk.folder.path().join("damaged.csr"), damaged).unwrap();
    let refused = desk
        .lantern(&["certificate", "issue", "chart-room", "--name", "x", "--request", "damaged.csr"])
        .expect(241);
    assert!(refused.err.contains("damaged.csr"), "{}", refused.err);
}

#[test]
fn pkcs12_carries_a_key_to_another_program_and_into_a_script() {
    let desk = house("192.0.2.9", 5986);
    let words = [
        "certificate",
        "export",
        "chart-room",
        "--to",
        "pkcs12",
        "--out",
        "own.p12",
        "--new-passphrase-from",
        "fd:3",
    ];
    desk.with_secrets(&words, "low water", "").expect(0);
    let file = fs::metadata(desk.folder.path().join("own.p12")).unwrap();
    assert_eq!(file.permissions().mode() & 0o777, 0o600);
    assert!(agrees(
        &desk,
        &["pkcs12", "-in", "own.p12", "-passin", "pass:low water", "-nodes", "-out", "all.pem"]
    ));
    let again = desk.with_secrets(&words, "low water", "").expect(241);
    assert!(again.err.contains("own.p12"), "{}", again.err);
    let shown = desk
        .with_secrets(
            &["certificate", "show", "own.p12", "--passphrase-from", "fd:3", "--json"],
            "low water",
            "",
        )
        .expect(0);
    let shown = value(&shown);
    assert_eq!(
        (shown["private_keys"].as_u64(), shown["chain"].as_array().unwrap().len()),
        (Some(1), 2),
        "{shown:#}"
    );
    let wrong = desk
        .with_secrets(&["certificate", "show", "own.p12", "--passphrase-from", "fd:3"], "high water", "")
        .expect(241);
    assert!(wrong.err.contains("own.p12: the passphrase does not open it"), "{}", wrong.err);
    let mut screen = Screen::open(&desk, &["certificate", "show", "./own.p12"]);
    screen.wait_for("Passphrase of ./own.p12: ");
    screen.send("high water\r");
    screen.wait_for("That did not open it. Passphrase of ./own.p12: ");
    screen.send("low water\r");
    screen.wait_for("The file has a private key as well.");
    screen.wait_for_exit();
    let empty = desk.with_secrets(&[&words[..], &["--replace"]].concat(), "", "").expect(241);
    assert!(empty.err.contains("it is empty"), "{}", empty.err);
    let old = [
        "certificate",
        "export",
        "chart-room",
        "--to",
        "pkcs12",
        "--out",
        "old.p12",
        "--old-ciphers",
        "--new-passphrase-from",
        "fd:3",
    ];
    let old = desk.with_secrets(&old, "low water", "").expect(0);
    assert!(old.err.contains("are retired"), "{}", old.err);
    assert!(agrees(
        &desk,
        &["pkcs12", "-legacy", "-in", "old.p12", "-passin", "pass:low water", "-nodes", "-out", "all.pem"]
    ));
    // Within a script, to be opened at the console.
    let prepare = [
        "machine",
        "prepare",
        "chart-room",
        "--system",
        "windows",
        "--from",
        "192.0.2.4",
        "--certificate",
        "chart-room",
        "--new-passphrase-from",
        "fd:3",
    ];
    let script = desk.with_secrets(&prepare, "low water", "").expect(0);
    let text = script.text();
    let (_, bundle) = text.split_once("$Bundle = -join @(").unwrap();
    let (bundle, _) = bundle.split_once(')').unwrap();
    let base64: String = bundle.chars().filter(|c| c.is_ascii_alphanumeric() || "+/=".contains(*c)).collect();
    fs::write(desk.folder.path().join("bundle.b64"), base64 + "\n").unwrap();
    assert!(agrees(&desk, &["base64", "-d", "-A", "-in", "bundle.b64", "-out", "bundle.p12"]));
    assert!(agrees(
        &desk,
        &["pkcs12", "-in", "bundle.p12", "-passin", "pass:low water", "-nodes", "-out", "all.pem"]
    ));
    let thumbprint = value(&desk.lantern(&["certificate", "show", "chart-room", "--json"]).expect(0))["chain"][0]["thumbprint"].as_str().unwrap().to_owned();
    assert!(text.contains(&format!("$Thumbprint = '{thumbprint}'")), "{text}");
    assert!(!text.contains("low water"), "{text}");
}
