//! What is known of machines of Windows: looked at, accepted, changed, shared and audited, by the words that messages advise.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::{ServerCertificate, WindowsSpec};
use serde_json::Value;
use support::windows::{Windows, chart_room, desk_for, desk_that_trusts, run, trust};
use support::{Desk, Screen};

fn json(desk: &Desk, words: &[&str], status: i32) -> Value {
    let outcome = desk.lantern(words).expect(status);
    serde_json::from_str(outcome.text()).unwrap()
}

#[test]
fn a_look_tells_what_it_presents_and_what_that_means() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let look = |status| json(&desk, &["trust", "look", "chart-room", "--json"], status)[0].clone();
    let new = look(248);
    assert_eq!(
        (new["state"].as_str(), new["key"]["fingerprint"].as_str()),
        (Some("new"), Some(windows.fingerprint.as_str()))
    );
    assert_eq!(new["key"]["thumbprint"], windows.thumbprint.as_str());
    let faults: Vec<&str> =
        new["faults"].as_array().unwrap().iter().map(|fault| fault.as_str().unwrap()).collect();
    assert_eq!(faults, ["self-signed", "other-name"]);
    // The name that it must have can be said: no resolver, no hosts file.
    desk.lantern(&["machine", "set", "chart-room", "certificate-name=chart-room"]).expect(0);
    assert_eq!(look(248)["faults"].as_array().unwrap().len(), 1);
    let text = desk.lantern(&["trust", "look", "chart-room"]).expect(248);
    assert!(text.text().contains("it signed itself"), "{}", text.text());
    desk.lantern(&["trust", "accept", "chart-room", "--expect", &windows.fingerprint]).expect(0);
    assert_eq!(look(0)["state"], "known");
    // Nobody logged in for that.
    assert_eq!(windows.seen().logins + windows.seen().requests.len(), 0);
    let listed = json(&desk, &["trust", "list", "--json"], 0);
    assert_eq!(listed[0]["certificates"][0]["verified"], "expected");
    assert_eq!(listed[0]["certificates"][0]["names"][0], "chart-room");
}

#[test]
fn a_machine_without_tls_has_nothing_to_be_trusted_by() {
    let windows = Windows::light(WindowsSpec { certificate: None, ..chart_room() });
    let desk = desk_for(&windows, &["plain=private-network"]);
    let refused = desk.lantern(&["trust", "accept", "chart-room", "--expect", &"AB".repeat(32)]);
    assert!(refused.status != 0 && refused.err.contains("proves nothing"), "{}", refused.err);
}

#[test]
fn what_a_changed_certificate_advises_is_what_mends_it() {
    let first = Windows::light(chart_room());
    let desk = desk_that_trusts(&first, &[]);
    let second = Windows::light(chart_room());
    desk.lantern(&["machine", "set", "chart-room", &format!("port={}", second.address.port())]).expect(0);
    let refused = run(&desk, &["--", "hostname"]).expect(248);
    let advice = refused.err.lines().find_map(|line| line.split("lantern trust accept").nth(1)).unwrap();
    let words: Vec<&str> = ["trust", "accept"].into_iter().chain(advice.split_whitespace()).collect();
    desk.lantern(&words).expect(0);
    run(&desk, &["--", "hostname"]).expect(0);
    // Revoked, it is refused whoever presents it.
    desk.lantern(&["trust", "revoke", &second.fingerprint, "--reason", "lost at sea"]).expect(0);
    let revoked = run(&desk, &["--", "hostname"]).expect(248);
    assert!(
        revoked.err.contains("certificate that was revoked") && revoked.err.contains("lost at sea"),
        "{}",
        revoked.err
    );
    assert_eq!(second.seen().logins, 1);
}

#[test]
fn a_person_at_a_terminal_accepts_by_comparing() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    let mut screen = Screen::open(&desk, &["trust", "accept", "chart-room"]);
    screen.wait_for("thumbprint, or `trust`:");
    screen.send(&format!("{}\r", &windows.fingerprint));
    assert_eq!(screen.wait_for_exit(), 0, "{}", screen.text());
    let shown = json(&desk, &["trust", "list", "--json"], 0);
    assert_eq!(shown[0]["certificates"][0]["verified"], "pasted");
}

#[test]
fn an_audit_tells_what_ends_what_is_weak_and_what_is_shared() {
    let mut params = rcgen::CertificateParams::new(vec!["chart-room".to_owned()]).unwrap();
    params.not_before = rcgen::date_time_ymd(2020, 1, 1);
    params.not_after = rcgen::date_time_ymd(2021, 1, 1);
    let certificate = Some(ServerCertificate::of(params).unwrap());
    let windows = Windows::light(WindowsSpec { certificate, ..chart_room() });
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    let (address, port) = (windows.address.ip().to_string(), format!("port={}", windows.address.port()));
    desk.lantern(&["machine", "add", "log-room", &address, &port, "protocol=winrm", "user=keeper"]).expect(0);
    desk.lantern(&["trust", "accept", "log-room", "--expect", &windows.fingerprint]).expect(0);
    let found = json(&desk, &["trust", "audit", "--json"], 1);
    let kinds: Vec<&str> =
        found.as_array().unwrap().iter().map(|found| found["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["shared", "ended", "ended"], "{found:#}");
    assert!(
        found.to_string().contains("ended on 2021-01-01")
            && found.to_string().contains("new certificates on all but one"),
        "{found:#}"
    );
}

/// An authority that a person accepts is believed for the machines that it was accepted for, renewals with it, and for no others.
#[test]
fn an_authority_is_believed_for_its_machines_alone() {
    use rcgen::{BasicConstraints, CertificateParams, Issuer, KeyPair};
    let made = |is_authority: bool| {
        let mut params = CertificateParams::new(vec!["chart-room".to_owned()]).unwrap();
        if is_authority {
            params = CertificateParams::new(Vec::new()).unwrap();
            params.is_ca = rcgen::IsCa::Ca(BasicConstraints::Unconstrained);
            params.distinguished_name.push(rcgen::DnType::CommonName, "coast authority");
        }
        params
    };
    let key = KeyPair::generate().unwrap();
    let authority = made(true).self_signed(&key).unwrap();
    let issuer = Issuer::new(made(true), key);
    let issued = || {
        let own = KeyPair::generate().unwrap();
        let certificate = made(false).signed_by(&own, &issuer).unwrap();
        let chain = vec![certificate.der().to_vec()];
        Windows::light(WindowsSpec {
            certificate: Some(ServerCertificate { chain, key: own.serialize_der() }),
            ..chart_room()
        })
    };
    let windows = issued();
    let desk = desk_for(&windows, &["certificate-name=chart-room"]);
    let refused = run(&desk, &["--", "hostname"]).expect(248);
    assert!(refused.err.contains("lantern trust accept"), "{}", refused.err);
    let file = desk.folder.path().join("ca.der");
    std::fs::write(&file, authority.der()).unwrap();
    let accept = ["trust", "accept", "chart-room", "--authority", file.to_str().unwrap()];
    desk.lantern(&accept).expect(0);
    assert!(desk.lantern(&accept).expect(0).err.contains("as before"));
    run(&desk, &["--", "hostname"]).expect(0);
    let listed = json(&desk, &["trust", "list", "--json"], 0);
    assert_eq!(listed[0]["certificates"][0]["verified"], "authority");
    // Renewed by the same authority, nobody is asked; under another name it is refused.
    let renewed = issued();
    desk.lantern(&["machine", "set", "chart-room", &format!("port={}", renewed.address.port())]).expect(0);
    run(&desk, &["--", "hostname"]).expect(0);
    desk.lantern(&["trust", "forget", "chart-room", "--yes"]).expect(0);
    desk.lantern(&accept).expect(0);
    desk.lantern(&["machine", "set", "chart-room", "certificate-name=log-room"]).expect(0);
    run(&desk, &["--", "hostname"]).expect(248);
    // For another machine it is a stranger.
    let (address, port) = (renewed.address.ip().to_string(), format!("port={}", renewed.address.port()));
    let words = [
        "machine",
        "add",
        "log-room",
        &address,
        &port,
        "protocol=winrm",
        "user=keeper",
        "certificate-name=chart-room",
    ];
    desk.lantern(&words).expect(0);
    let other = json(&desk, &["trust", "look", "log-room", "--json"], 248);
    assert_eq!(other[0]["faults"][0], "unknown-authority");
    // A machine's own certificate is no authority; one that was revoked vouches for nobody.
    let own = desk.folder.path().join("own.der");
    std::fs::write(&own, renewed.machine.certificate().unwrap()).unwrap();
    desk.lantern(&["trust", "accept", "log-room", "--authority", own.to_str().unwrap()]).expect(248);
    desk.lantern(&["machine", "set", "chart-room", "certificate-name=chart-room"]).expect(0);
    run(&desk, &["--", "hostname"]).expect(0);
    desk.lantern(&["trust", "forget", "chart-room", "--yes"]).expect(0);
    desk.lantern(&accept).expect(0);
    let fingerprint = lantern_keys::TlsCertificate::read(authority.der()).unwrap().fingerprint().to_string();
    desk.lantern(&["trust", "revoke", &fingerprint, "--reason", "lost at sea"]).expect(0);
    run(&desk, &["--", "hostname"]).expect(248);
}

/// What cannot be kept is not said to be believed.
#[test]
fn more_authorities_than_are_kept_are_refused() {
    let desk = Desk::new();
    desk.lantern(&["machine", "add", "chart-room", "192.0.2.15", "protocol=winrm", "user=keeper"]).expect(0);
    let file = desk.folder.path().join("an authority.pem");
    let accept = || {
        let mut params = rcgen::CertificateParams::default();
        params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        let made = params.self_signed(&rcgen::KeyPair::generate().unwrap()).unwrap();
        std::fs::write(&file, made.der()).unwrap();
        desk.lantern(&["trust", "accept", "chart-room", "--authority", file.to_str().unwrap()])
    };
    for _ in 0..16 {
        accept().expect(0);
    }
    let refused = accept().expect(241);
    assert!(refused.err.contains("believes 16 authorities"), "{}", refused.err);
    desk.lantern(&["trust", "forget", "chart-room", "--yes"]).expect(0);
    accept().expect(0);
}
