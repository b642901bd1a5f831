//! TLS as another implementation speaks it: every variant that is promised, and those that are refused, each in its words. `openssl s_server` is the peer.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use serde_json::Value;
use support::{Desk, Outcome};

struct Peer {
    child: Child,
    port: u16,
}

impl Drop for Peer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn openssl(folder: &Path, words: &str) {
    let output = Command::new("openssl").args(words.split(' ')).current_dir(folder).output().unwrap();
    assert!(output.status.success(), "openssl {words}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A peer with `own.pem` and `own.key` of the desk's folder.
fn serve(desk: &Desk, words: &str) -> Peer {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let child = Command::new("openssl")
        .args([
            "s_server",
            "-accept",
            &format!("127.0.0.1:{port}"),
            "-cert",
            "own.pem",
            "-key",
            "own.key",
            "-quiet",
        ])
        .args(words.split(' ').filter(|word| !word.is_empty()))
        .current_dir(desk.folder.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let peer = Peer { child, port };
    support::keeping::until("the peer listens", || TcpStream::connect(("127.0.0.1", port)).is_ok());
    peer
}

fn own(desk: &Desk, key: &str, words: &str) {
    let request = "req -x509 -nodes -keyout own.key -out own.pem -days 40 -subj /CN=chart-room";
    let whole = format!("{request} -newkey {key} -addext subjectAltName=DNS:chart-room {words}");
    openssl(desk.folder.path(), whole.trim_end());
}

fn desk_for(peer: &Peer, desk: &Desk) {
    let port = format!("port={}", peer.port);
    desk.lantern(&[
        "machine",
        "add",
        "chart-room",
        "127.0.0.1",
        &port,
        "protocol=winrm",
        "user=keeper",
        "certificate-name=chart-room",
    ])
    .expect(0);
}

fn look(desk: &Desk) -> Outcome {
    desk.lantern(&["trust", "look", "chart-room", "--json", "--handshake-limit", "5"])
}

fn faults(outcome: &Outcome) -> Vec<String> {
    let value: Value = serde_json::from_str(outcome.text()).unwrap();
    let faults = value[0]["faults"].as_array().unwrap();
    faults.iter().map(|fault| fault.as_str().unwrap().to_owned()).collect()
}

#[test]
fn the_versions_and_keys_that_are_promised_are_spoken() {
    for (key, words, described) in [
        ("ec -pkeyopt ec_paramgen_curve:P-256", "-tls1_3", "ECDSA P-256"),
        ("ec -pkeyopt ec_paramgen_curve:P-384", "-tls1_2", "ECDSA P-384"),
        ("rsa:2048", "-tls1_3", "RSA 2048"),
        ("rsa:3072", "-tls1_2", "RSA 3072"),
        // What Windows Server 2016 offers with an RSA certificate, and what 2012 R2 does with an ECDSA one.
        ("rsa:2048", "-tls1_2 -cipher ECDHE-RSA-AES256-GCM-SHA384", "RSA 2048"),
        (
            "ec -pkeyopt ec_paramgen_curve:P-256",
            "-tls1_2 -cipher ECDHE-ECDSA-AES128-GCM-SHA256",
            "ECDSA P-256",
        ),
    ] {
        let desk = Desk::new();
        own(&desk, key, "");
        let peer = serve(&desk, words);
        desk_for(&peer, &desk);
        let seen = look(&desk).expect(248);
        let value: Value = serde_json::from_str(seen.text()).unwrap();
        assert_eq!(
            (value[0]["state"].as_str(), value[0]["key"]["algorithm"].as_str()),
            (Some("new"), Some(described))
        );
        assert_eq!(faults(&seen), ["self-signed"], "{words}");
        // The same that the other implementation says.
        let words = ["x509", "-in", "own.pem", "-noout", "-fingerprint", "-sha256"];
        let printed =
            Command::new("openssl").args(words).current_dir(desk.folder.path()).output().unwrap().stdout;
        let printed = String::from_utf8(printed).unwrap();
        desk.lantern(&[
            "trust",
            "accept",
            "chart-room",
            "--expect",
            printed.trim().split_once('=').unwrap().1,
        ])
        .expect(0);
        look(&desk).expect(0);
    }
}

#[test]
fn what_is_refused_is_refused_in_words() {
    let refused = |key: &str, words: &str, status: i32, told: &str| {
        let desk = Desk::new();
        own(&desk, key, "");
        let peer = serve(&desk, words);
        desk_for(&peer, &desk);
        let seen = look(&desk);
        assert_eq!(seen.status, status, "{words}: {} {}", seen.text(), seen.err);
        assert!(seen.text().contains(told), "{words}: {}", seen.text());
    };
    // What Windows Server 2012 R2 offers with an RSA certificate: no forward secrecy.
    refused("rsa:2048", "-tls1_2 -cipher AES256-GCM-SHA384", 247, "no version or cipher");
    refused("rsa:2048", "-tls1_1 -cipher ALL:@SECLEVEL=0", 247, "no version or cipher");
    refused("rsa:1024", "-tls1_2 -cipher DEFAULT:@SECLEVEL=0", 246, "too weak: RSA 1024");
    // It wants a client's certificate within the handshake.
    refused("rsa:2048", "-tls1_2 -Verify 1 -verify_return_error", 249, "client's certificate");
}

/// Version 1.3 says that it wants a certificate after the handshake, when we have begun to speak.
#[test]
fn an_alert_after_the_handshake_is_heard() {
    let desk = Desk::new();
    own(&desk, "rsa:2048", "");
    let peer = serve(&desk, "-tls1_3 -Verify 1 -verify_return_error");
    desk_for(&peer, &desk);
    look(&desk).expect(248);
    desk.lantern(&["trust", "accept", "chart-room", "--certificate", "own.pem"]).expect(0);
    let words = ["run", "chart-room", "--password-from", "fd:3", "--login-limit", "5", "--", "hostname"];
    let refused = desk.with_secrets(&words, "high water", "").expect(249);
    assert!(refused.err.contains("client's certificate"), "{}", refused.err);
}

#[test]
fn reasons_against_a_certificate_are_what_the_other_implementation_made_them() {
    let desk = Desk::new();
    own(&desk, "rsa:2048", "-sha1 -addext extendedKeyUsage=clientAuth");
    let peer = serve(&desk, "-cipher DEFAULT:@SECLEVEL=0");
    desk_for(&peer, &desk);
    assert_eq!(faults(&look(&desk).expect(248)), ["self-signed", "not-for-servers", "weak-signature"]);

    // An authority that nobody here knows, and a chain that is sent whole.
    let desk = Desk::new();
    let folder = desk.folder.path();
    openssl(
        folder,
        "req -x509 -nodes -newkey rsa:2048 -keyout ca.key -out ca.pem -days 40 -subj /CN=coast-authority",
    );
    openssl(folder, "req -nodes -newkey rsa:2048 -keyout own.key -out own.csr -subj /CN=chart-room");
    std::fs::write(folder.join("names"), "subjectAltName=DNS:chart-room,IP:127.0.0.1\n").unwrap();
    openssl(
        folder,
        "x509 -req -in own.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out own.pem -days 30 -extfile names",
    );
    let peer = serve(&desk, "-cert_chain ca.pem");
    desk_for(&peer, &desk);
    let seen = look(&desk).expect(248);
    assert_eq!(faults(&seen), ["unknown-authority"]);
    assert!(seen.text().contains("coast-authority"), "{}", seen.text());
}
