//! The way to a machine: gateways, proxies, several addresses, names with records, links that die.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_harbour::{Fault, MachineSpec, NameServer, ProxyServer};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey};
use support::{Desk, Lit, Screen, kindle, light, light_all, machine};

fn json(desk: &Desk, words: &[&str]) -> serde_json::Value {
    serde_json::from_str(desk.lantern(words).expect(0).text()).unwrap()
}

/// A gateway, one behind it, and a lamp behind that.
fn chain(desk: &Desk) -> Vec<Lit> {
    let key = desk.public_key("harbour");
    let lit = light_all(vec![
        MachineSpec { gateway: true, ..machine("gate", &key) },
        MachineSpec { gateway: true, inner_address: Some("10.77.0.2".into()), ..machine("inner-gate", &key) },
        MachineSpec { inner_address: Some("10.77.0.3".into()), ..machine("lamp", &key) },
    ]);
    desk.lantern(&["machine", "add", "gate", &format!("keeper@{}", lit[0].address)]).expect(0);
    desk.lantern(&["machine", "add", "inner-gate", "keeper@10.77.0.2:22", "gateway=gate"]).expect(0);
    desk.lantern(&["machine", "add", "lamp", "keeper@10.77.0.3:22", "gateway=inner-gate"]).expect(0);
    for machine in &lit {
        let words = ["trust", "accept", &machine.name, "--expect", &machine.fingerprint];
        desk.lantern(&words).expect(0);
    }
    lit
}

#[test]
fn gateways_lead_on_each_with_its_own_login_and_trust() {
    let desk = Desk::with_key();
    let _lit = chain(&desk);
    assert_eq!(desk.lantern(&["run", "lamp", "--", "hostname"]).expect(0).text(), "lamp\n");
    // Much data both ways, whole.
    let sum =
        desk.lantern_with_input(&["run", "lamp", "--", "checksum"], support::noise(3_000_000)).expect(0);
    let here =
        desk.lantern_with_input(&["run", "gate", "--", "checksum"], support::noise(3_000_000)).expect(0);
    assert_eq!(sum.text(), here.text());
    assert_eq!(desk.lantern(&["run", "lamp", "--", "flood", "5000000"]).expect(0).out.len(), 5_000_000);
    let trust = json(&desk, &["trust", "show", "lamp", "--json"])[0].clone();
    assert_eq!(trust["addresses"][0], "10.77.0.3:22 via inner-gate");
    // By option, for a machine that is not in the book.
    let words = ["run", "keeper@10.77.0.3:22", "--gateway", "inner-gate", "--no-questions", "--", "hostname"];
    let known = desk.lantern(&words);
    assert!(known.status == 248 || known.text() == "lamp\n", "{}", known.err);
    // A machine that is no gateway, and an address behind one that leads nowhere.
    desk.lantern(&["machine", "add", "lost", "keeper@10.77.0.9:22", "gateway=gate"]).expect(0);
    let err = desk.lantern(&["run", "lost", "--no-questions", "--", "true"]).expect(243).err;
    assert!(
        err.contains("the gateway gate did not connect us with 10.77.0.9:22")
            && err.contains("connect failed"),
        "{err}"
    );
    desk.lantern(&["machine", "set", "lost", "gateway=lamp"]).expect(0);
    let err = desk.lantern(&["run", "lost", "--no-questions", "--", "true"]).expect(243).err;
    assert!(err.contains("the gateway lamp did not connect us") && err.contains("passed on"), "{err}");
    // What fails at a gateway is told as that.
    desk.lantern(&["machine", "set", "inner-gate", "user=stranger"]).expect(0);
    let err = desk.lantern(&["run", "lamp", "--no-questions", "--", "true"]).expect(249).err;
    assert!(err.contains("at the gateway inner-gate") && err.contains("did not let stranger in"), "{err}");
}

#[test]
fn proxies_of_both_kinds_let_through_whom_they_know() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let address = |proxy: &ProxyServer| proxy.address;
    let (open, _open) = kindle(|| ProxyServer::start(None), address);
    let (closed, _closed) = kindle(|| ProxyServer::start(Some(("keeper", "salt"))), address);
    for scheme in ["http", "socks5"] {
        let run = |proxy: &str, status: i32| {
            let words = [
                "run",
                "lamp-01",
                "--proxy",
                proxy,
                "--no-questions",
                "--proxy-password-from",
                "fd:3",
                "--",
                "hostname",
            ];
            desk.with_secrets(&words, "salt", "pepper").expect(status)
        };
        assert_eq!(run(&format!("{scheme}://{open}"), 0).text(), "lamp-01\n");
        assert_eq!(run(&format!("{scheme}://keeper@{closed}"), 0).text(), "lamp-01\n");
        let wrong = run(&format!("{scheme}://warden@{closed}"), 243).err;
        assert!(wrong.contains("did not take the user and password"), "{wrong}");
        let nobody = run(&format!("{scheme}://{closed}"), 243).err;
        assert!(
            nobody.contains("wants a user and a password") || nobody.contains("did not take"),
            "{nobody}"
        );
    }
    // In the book; and the machine behind it that does not answer.
    desk.lantern(&["machine", "set", "lamp-01", &format!("proxy=socks5://{open}")]).expect(0);
    desk.lantern(&["run", "lamp-01", "--", "true"]);
    desk.lantern(&["machine", "add", "gone", "keeper@127.77.0.201:1", &format!("proxy=socks5://{open}")])
        .expect(0);
    let err = desk.lantern(&["run", "gone", "--no-questions", "--", "true"]).expect(243).err;
    assert!(err.contains("connection refused by the machine"), "{err}");
    desk.lantern(&["machine", "set", "gone", "proxy=http://127.77.0.202:1"]).expect(0);
    let err = desk.lantern(&["run", "gone", "--no-questions", "--", "true"]).expect(243).err;
    assert!(err.contains("the proxy 127.77.0.202:1") && err.contains("nothing listens"), "{err}");
    assert!(
        desk.lantern(&["machine", "set", "gone", "proxy=http://a:secret@x"])
            .expect(241)
            .err
            .contains("password")
    );
}

#[test]
fn a_slow_address_is_overtaken_by_the_next() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let filtered = light(MachineSpec { fault: Some(Fault::Filtered), ..machine("lamp-01", &key) });
    let port = filtered.address.port();
    let at = |number| IpAddr::V4(Ipv4Addr::new(127, 77, 9, number));
    let spec = machine("lamp-01", &key);
    let good = light(MachineSpec { address: at(1), port, ..spec });
    desk.lantern(&[
        "machine",
        "add",
        "lamp-01",
        "user=keeper",
        &format!("port={port}"),
        &format!("address=127.77.0.1,{}", good.address.ip()),
    ])
    .expect(0);
    let start = Instant::now();
    let words = ["run", "lamp-01", "--expect", &good.fingerprint, "--connect-limit", "9", "--", "hostname"];
    assert_eq!(desk.lantern(&words).expect(0).text(), "lamp-01\n");
    assert!(start.elapsed() < Duration::from_secs(6), "it waited for the silent one: {:?}", start.elapsed());
    desk.lantern(&["machine", "set", "lamp-01", "race-addresses=no", "connect-limit=1"]).expect(0);
    assert_eq!(desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(0).text(), "lamp-01\n");
    desk.lantern(&["machine", "set", "lamp-01", "address=127.77.0.1"]).expect(0);
    let err = desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(245).err;
    assert!(err.contains("did not answer within 1 s"), "{err}");
}

#[test]
fn policies_and_records_decide_at_first_contact() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let local = |spec: MachineSpec| MachineSpec { address: IpAddr::V4(Ipv4Addr::LOCALHOST), ..spec };
    let lit = light(local(machine("lamp-01", &key)));
    let (port, host_key) = (lit.address.port(), lit.lit.spec.host_keys[0].public().clone());
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@localhost:{port}"), "trust=known-only"])
        .expect(0);
    let run = |status| desk.lantern(&["run", "lamp-01", "--", "hostname"]).expect(status);
    let err = run(248).err;
    assert!(
        err.contains("policy is to trust known keys only") && err.contains("lantern trust accept lamp-01"),
        "{err}"
    );
    desk.lantern(&["machine", "set", "lamp-01", "trust=first-use"]).expect(0);
    // A check goes on as if, and keeps nothing.
    desk.lantern(&["check", "lamp-01"]).expect(0);
    assert_eq!(json(&desk, &["trust", "list", "--json"]), serde_json::json!([]));
    assert!(run(0).err.contains("is trusted from now on"));
    let verified = || json(&desk, &["trust", "show", "lamp-01", "--json"])[0]["keys"][0]["verified"].clone();
    assert_eq!(verified(), "first-use");
    // Names with records.
    let resolver = |keys: Vec<PublicKey>, validates| {
        let records = HashMap::from([("localhost".to_owned(), keys)]);
        let (address, light) =
            kindle(move || NameServer::start(records, validates), |server: &NameServer| server.address);
        desk.lantern(&["trust", "forget", "lamp-01", "--yes"]).expect(0);
        desk.lantern(&[
            "machine",
            "set",
            "lamp-01",
            "trust=known-only",
            &format!("trusted-resolver={address}"),
        ])
        .expect(0);
        light
    };
    {
        let _light = resolver(vec![PublicKey::Ed25519([1; 32]), host_key.clone()], true);
        run(0);
        assert_eq!(verified(), "dns");
    }
    {
        let _light = resolver(vec![host_key.clone()], false);
        let err = run(248).err;
        assert!(err.contains("does not say that it validated"), "{err}");
    }
    {
        let _light = resolver(vec![PublicKey::Ed25519([1; 32])], true);
        let err = run(248).err;
        assert!(err.contains("not among those that DNS vouches for"), "{err}");
    }
}

#[test]
fn announced_host_keys_are_taken_over_and_an_unproven_stranger_is_not() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let make = || Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, "lamp-01").unwrap());
    let (old, new) = (make(), make());
    let spec = |keys: Vec<Arc<PrivateKey>>| MachineSpec {
        host_keys: keys,
        announces: true,
        ..machine("lamp-01", &key)
    };
    let both = light(spec(vec![old.clone(), new.clone()]));
    desk.add(&both);
    // Long enough for the proof to come back.
    let err = desk.lantern(&["run", "lamp-01", "--", "slow", "2"]).expect(0).err;
    assert!(err.contains("announced another host key and proved it"), "{err}");
    let keys = json(&desk, &["trust", "show", "lamp-01", "--json"])[0]["keys"].clone();
    assert_eq!(
        (keys[0]["verified"].as_str(), keys[1]["verified"].as_str()),
        (Some("expected"), Some("announced"))
    );
    // The old key is gone from the machine: no question, and it is forgotten.
    let relit = light(spec(vec![new.clone()]));
    let port = format!("port={}", relit.address.port());
    desk.lantern(&["machine", "set", "lamp-01", &port]).expect(0);
    let err = desk.lantern(&["run", "lamp-01", "--", "slow", "2"]).expect(0).err;
    assert!(err.contains("has this host key no more"), "{err}");
    let keys = json(&desk, &["trust", "show", "lamp-01", "--json"])[0]["keys"].clone();
    assert_eq!(keys.as_array().unwrap().len(), 1);
    assert_eq!(keys[0]["fingerprint"], new.public().fingerprint().to_string());
}

#[test]
fn a_dead_link_is_noticed_and_a_new_one_offered() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let lit = light(MachineSpec { fault: Some(Fault::StallAfter(4000)), ..machine("lamp-01", &key) });
    desk.add(&lit);
    desk.lantern(&["machine", "set", "lamp-01", "dead-after=2"]).expect(0);
    let start = Instant::now();
    let err = desk.lantern(&["run", "lamp-01", "--", "flood", "100000"]).expect(251).err;
    assert!(err.contains("whether it is still there") && start.elapsed() < Duration::from_secs(10), "{err}");
    let cut = light(MachineSpec { fault: Some(Fault::CutAfter(6000)), ..machine("lamp-02", &key) });
    desk.add(&cut);
    let mut screen = Screen::open(&desk, &["shell", "lamp-02", "--resume-prompt"]);
    for (round, answer) in ["yes\r", "no\r"].into_iter().enumerate() {
        let times = |text: &str, words: &str| text.matches(words).count() == round + 1;
        screen.wait_until("a prompt", |text| times(text, "keeper@lamp-02 ~ %"));
        screen.send("count 1000\r");
        screen.wait_until("the question", |text| times(text, "Connect to lamp-02 again? Type yes or no:"));
        // Typed, taken back, typed anew: the terminal is the question's own.
        screen.send("clear me\x15");
        screen.send(answer);
    }
    assert_eq!(screen.wait_for_exit(), 251);
    assert!(screen.is_cooked());
}
