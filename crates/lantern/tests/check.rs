//! `lantern check` as people meet it: every step that can fail, many machines at once, mending.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::net::{IpAddr, Ipv4Addr};
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;

use lantern_harbour::{Fault, LoginRule, MachineSpec, UserSpec};
use lantern_keys::{KeyAlgorithm, PrivateKey};
use serde_json::Value;
use support::{Desk, light, light_all, machine};

fn check(desk: &Desk, words: &[&str], status: i32) -> Value {
    // Long enough for two hundred on a loaded computer, short enough to wait for one that is silent.
    let limits = ["--connect-limit", "2", "--handshake-limit", if words == ["@coast"] { "60" } else { "5" }];
    let words = [&["check", "--no-questions", "--json"], &limits[..], words].concat();
    let outcome = desk.lantern(&words);
    let value: Value = serde_json::from_str(outcome.text()).unwrap_or_else(|_| panic!("{}", outcome.err));
    assert_eq!(outcome.status, status, "{value:#}");
    value
}

fn step<'v>(account: &'v Value, name: &str) -> &'v Value {
    let steps = account["steps"].as_array().unwrap();
    steps.iter().find(|step| step["step"] == name).unwrap_or_else(|| panic!("no step {name}: {account:#}"))
}

#[test]
fn every_step_that_fails_is_told_with_its_meaning_and_a_command() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let faulty = |fault| light(MachineSpec { fault: Some(fault), ..machine("lamp", &key) });
    let add = |name: &str, address: &str| drop(desk.lantern(&["machine", "add", name, address]).expect(0));
    add("nameless", "keeper@no-such-lamp.invalid");
    let account = &check(&desk, &["nameless"], 242)[0];
    assert_eq!((account["failed_step"].as_str(), account["state"].as_str()), (Some("name"), Some("failed")));
    let closed = faulty(Fault::Closed);
    add("closed", &format!("keeper@{}", closed.address));
    let account = &check(&desk, &["closed"], 244)[0];
    assert_eq!(account["failed_step"], "port");
    let advice =
        account["steps"].as_array().unwrap().iter().find(|s| s["state"] == "failed").unwrap()["advice"]
            .to_string();
    assert!(
        advice.contains("nothing listens") && advice.contains("Debian") && advice.contains("Windows"),
        "{advice}"
    );
    let filtered = faulty(Fault::Filtered);
    add("filtered", &format!("keeper@{}", filtered.address));
    let account = &check(&desk, &["filtered"], 245)[0];
    assert_eq!(account["failed_step"], "port");
    assert!(account.to_string().contains("a firewall drops the packets"));
    let other = faulty(Fault::OtherService("220 tide service\r\n"));
    add("other", &format!("keeper@{}", other.address));
    assert_eq!(check(&desk, &["other"], 246)[0]["failed_step"], "service");
    let silent = faulty(Fault::Silent);
    add("silent", &format!("keeper@{}", silent.address));
    assert_eq!(check(&desk, &["silent"], 245)[0]["failed_step"], "service");
    let lit = light(machine("lamp-01", &key));
    add("lamp-01", &format!("keeper@{}", lit.address));
    let account = &check(&desk, &["lamp-01"], 248)[0];
    assert_eq!(
        (account["failed_step"].as_str(), account["next"].as_str()),
        (Some("host key"), Some("lantern trust accept lamp-01"))
    );
    // A check has trusted nothing.
    assert_eq!(desk.lantern(&["trust", "list", "--json"]).expect(0).text().trim(), "[]");
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &lit.fingerprint]).expect(0);
    let account = &check(&desk, &["lamp-01", "--user", "stranger"], 249)[0];
    assert!(
        account["failed_step"] == "login" && account.to_string().contains("refused by the server"),
        "{account:#}"
    );
    desk.lantern(&["machine", "set", "lamp-01", "user=root", "image=ubuntu"]).expect(0);
    let account = &check(&desk, &["lamp-01"], 249)[0];
    assert_eq!(account["next"], "lantern check lamp-01 --user ubuntu");
    desk.lantern(&["machine", "set", "lamp-01", "user=keeper", "image="]).expect(0);
    let account = &check(&desk, &["lamp-01"], 0)[0];
    let all = [
        "book",
        "port",
        "service",
        "algorithms",
        "host key",
        "methods",
        "login",
        "session",
        "shell",
        "clock",
        "files",
        "forwarding",
        "here",
    ];
    for name in all {
        assert_ne!(step(account, name)["state"], "failed");
    }
    // In this order, also where most of it comes in one piece since what the server will choose is known.
    desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
    for account in [account, &check(&desk, &["lamp-01"], 0)[0]] {
        let steps = account["steps"].as_array().unwrap().iter();
        let mut names: Vec<&str> = steps.map(|step| step["step"].as_str().unwrap()).collect();
        names.dedup();
        assert_eq!(names, all);
    }
    assert!(step(account, "shell")["saw"].as_str().unwrap().starts_with("keeper on lamp-01"));
    assert!(step(account, "algorithms")["saw"].as_str().unwrap().contains("quantum-safe"));
    assert_eq!(
        (account["state"].as_str(), account["next"].as_str()),
        (Some("ok"), Some("lantern shell lamp-01"))
    );
    // Asked of the server, not guessed: what the book wants and the server does not give.
    desk.lantern(&[
        "machine",
        "set",
        "lamp-01",
        "forward-agent=yes",
        "tunnels.console=local 18443 to 127.0.0.1:443",
    ])
    .expect(0);
    let _taken = std::net::TcpListener::bind("127.0.0.1:18443").unwrap();
    let account = &check(&desk, &["lamp-01"], 1)[0];
    assert_eq!(step(account, "forwarding")["state"], "doubt");
    assert!(account.to_string().contains("the tunnel console cannot listen at 127.0.0.1:18443"));
    // A key that the book names and the ring does not have stops everything.
    std::fs::write(
        desk.home().join("machines.toml"),
        "[machines.lamp]\naddress = \"192.0.2.1\"\nkey = \"lost\"\n",
    )
    .unwrap();
    assert_eq!(check(&desk, &["lamp"], 241)[0]["failed_step"], "book");
    assert!(desk.lantern(&["check", "lamp-99"]).expect(241).err.contains("no machine is called"));
}

#[test]
fn many_at_once_are_sorted_by_what_is_wrong_and_two_hundred_are_walked_to() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let shared = Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, "image").unwrap());
    let specs: Vec<MachineSpec> = (0..200u8)
        .map(|number| {
            let spec = machine(&format!("lamp-{number:03}"), &key);
            let spec = MachineSpec { address: IpAddr::V4(Ipv4Addr::new(127, 77, 3, number)), ..spec };
            match number {
                7 | 8 => MachineSpec { host_keys: vec![shared.clone()], ..spec },
                50 => MachineSpec { fault: Some(Fault::Closed), ..spec },
                60 => MachineSpec {
                    users: vec![UserSpec {
                        rule: LoginRule::AnyOf(vec!["password"]),
                        ..UserSpec::new("keeper", Some("x"), vec![])
                    }],
                    ..spec
                },
                _ => spec,
            }
        })
        .collect();
    let lit = light_all(specs);
    let mut book = String::from("[defaults]\nuser = \"keeper\"\n");
    let mut list = String::new();
    for machine in &lit {
        let (ip, port) = (machine.address.ip(), machine.address.port());
        book.push_str(&format!(
            "[machines.{}]\naddress = \"{ip}\"\nport = {port}\ntags = [\"coast\"]\n",
            machine.name
        ));
        list.push_str(&format!("{}  {}\n", machine.name, machine.fingerprint));
    }
    std::fs::write(desk.home().join("machines.toml"), book).unwrap();
    std::fs::write(desk.folder.path().join("list"), list).unwrap();
    // All but the closed one are taken with the list, in one go.
    desk.lantern(&["trust", "accept", "@coast", "--expect-file", "list"]).expect(244);
    let scan: Value = serde_json::from_str(
        desk.lantern(&["trust", "look", "lamp-*", "--except", "lamp-050", "--json"]).expect(0).text(),
    )
    .unwrap();
    assert_eq!(scan.as_array().unwrap().iter().filter(|m| m["state"] == "known").count(), 199);
    let accounts = check(&desk, &["@coast"], 244);
    let states = |state: &str| accounts.as_array().unwrap().iter().filter(|a| a["state"] == state).count();
    assert_eq!((states("ok"), states("failed")), (198, 2));
    let text = desk.lantern(&["check", "lamp-05?,lamp-060", "--no-questions"]).expect(244);
    let first: Vec<&str> = text.text().lines().skip(1).map(|line| line.split("  ").next().unwrap()).collect();
    assert_eq!(first[..3], ["lamp-050", "lamp-060", "lamp-051"], "{}", text.text());
    let audit: Value =
        serde_json::from_str(desk.lantern(&["trust", "audit", "--json"]).expect(1).text()).unwrap();
    assert_eq!(audit.as_array().unwrap().len(), 1, "{audit}");
    assert_eq!(
        (audit[0]["kind"].as_str(), audit[0]["machines"].as_array().unwrap().len()),
        (Some("shared"), 2)
    );
}

#[test]
fn fix_mends_what_is_ours_and_nothing_else() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let key = desk.home().join("keys/harbour.key");
    let set = |mode| std::fs::set_permissions(&key, std::fs::Permissions::from_mode(mode)).unwrap();
    let mode = || std::fs::metadata(&key).unwrap().permissions().mode() & 0o777;
    set(0o644);
    let socket = desk.home().join("keeper.sock");
    drop(std::os::unix::net::UnixListener::bind(&socket).unwrap());
    // A key that others can read is not offered.
    let outcome = desk.lantern(&["check", "lamp-01"]).expect(249);
    assert!(
        outcome.text().contains("others can read") && outcome.text().contains("left over"),
        "{}",
        outcome.text()
    );
    assert!(
        outcome.text().contains("was not offered: others on this computer may read it"),
        "{}",
        outcome.text()
    );
    assert!(outcome.err.contains("--fix") && mode() == 0o644);
    // Without a terminal nobody says yes.
    desk.without_terminal(&["check", "lamp-01", "--fix"]).expect(240);
    assert_eq!(mode(), 0o644);
    let outcome = desk.lantern(&["check", "lamp-01", "--fix", "--yes"]).expect(0);
    assert!(outcome.text().ends_with("lamp-01 is well.\n") || outcome.text().contains("lamp-01 is well."));
    assert!(
        outcome.err.contains("done: chmod 0600") && mode() == 0o600 && !socket.exists(),
        "{}",
        outcome.err
    );
    desk.lantern(&["check", "lamp-01"]).expect(0);
}

/// In a home that others may write to nothing is done but look at what is wrong with it.
#[test]
fn a_home_that_others_may_write_to_is_refused_and_mended() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    let mode =
        |mode| std::fs::set_permissions(desk.home(), std::os::unix::fs::PermissionsExt::from_mode(mode));
    mode(0o777).unwrap();
    for words in [
        &["run", "lamp-01", "--", "whoami"][..],
        &["key", "list"],
        &["machine", "list"],
        &["trust", "list"],
        &["keeper", "start"],
        &["keeper", "add", "harbour"],
    ] {
        let err = desk.lantern(words).expect(241).err;
        assert!(err.contains("is not yours alone: others may write to it (mode 0777)"), "{words:?}: {err}");
        assert!(err.contains("chmod 700 "), "{err}");
    }
    assert!(!desk.home().join("keeper.sock").exists());
    let outcome = desk.lantern(&["check", "lamp-01", "--fix", "--yes"]);
    assert!(outcome.text().contains("others can read"), "{}", outcome.text());
    desk.lantern(&["run", "lamp-01", "--", "whoami"]).expect(0);
}

/// What was typed as an address says its user in the next command, too: followed, it gets in.
#[test]
fn the_next_command_of_a_one_off_gets_in() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    let line = format!("keeper@{}", lit.address);
    let words = ["check", "--paste", &line, "--expect", &lit.fingerprint, "--no-questions"];
    let out = desk.command(&words).env("USER", "nobody-there").output().unwrap();
    let text = String::from_utf8(out.stdout).unwrap();
    let next = text.lines().last().unwrap().trim_start_matches("→ lantern shell ").to_owned();
    assert_eq!(next, line, "{text}");
    // Looking has trusted nothing.
    let words = ["run", "--expect", &lit.fingerprint, &next, "whoami"];
    let outcome: support::Outcome = desk.command(&words).env("USER", "nobody-there").output().unwrap().into();
    assert_eq!(outcome.expect(0).text(), "keeper\n");
    // An address that is no name in the book, and a text that leads nowhere.
    let out = desk.lantern(&["run", "192.0.2.7", "whoami"]).expect(241).err;
    assert!(
        out.contains("`USER@192.0.2.7` reaches it") && out.contains("machine add NAME 192.0.2.7"),
        "{out}"
    );
    let out = desk.lantern(&["check", "--paste", "nothing here"]).expect(241).err;
    assert!(out.contains("a connect line or USER@ADDRESS"), "{out}");
}
