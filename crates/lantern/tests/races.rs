//! Several of the program at once on one home, and on one machine: nothing is lost, nothing is there twice, and nobody is told what is not so.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::BTreeSet;
use std::thread;

use support::sshd::{self, Sshd};
use support::{Desk, Outcome, light, machine};

/// Runs all at once.
fn at_once(desk: &Desk, commands: &[Vec<String>]) -> Vec<Outcome> {
    thread::scope(|scope| {
        let running: Vec<_> = commands
            .iter()
            .map(|words| {
                scope.spawn(move || desk.lantern(&words.iter().map(String::as_str).collect::<Vec<_>>()))
            })
            .collect();
        running.into_iter().map(|one| one.join().unwrap()).collect()
    })
}

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

fn json(desk: &Desk, words: &[&str]) -> serde_json::Value {
    serde_json::from_str(desk.lantern(words).expect(0).text()).unwrap()
}

/// Book and trust, changed by a dozen programs while others read them.
#[test]
fn the_book_and_the_trust_store_keep_what_each_program_wrote() {
    let desk = Desk::with_key();
    let mut commands = Vec::new();
    for number in 0..12u8 {
        let name = format!("lamp-{number:02}");
        commands.push(words(&["machine", "add", &name, &format!("keeper@192.0.2.{number}")]));
        // The fingerprint of nothing in particular: 43 signs of base64, the last of which ends on zero bits.
        let fingerprint = format!("SHA256:{}{}A", char::from(b'a' + number), "b".repeat(41));
        commands.push(words(&["trust", "revoke", &fingerprint, "--reason", &name]));
        commands.push(words(&["machine", "list"]));
        commands.push(words(&["trust", "revoked"]));
    }
    for outcome in at_once(&desk, &commands) {
        outcome.expect(0);
    }
    let machines = json(&desk, &["machine", "list", "--json"]);
    assert_eq!(machines.as_array().unwrap().len(), 12);
    let revoked = json(&desk, &["trust", "revoked", "--json"]);
    let reasons: BTreeSet<&str> =
        revoked.as_array().unwrap().iter().map(|revoked| revoked["reason"].as_str().unwrap()).collect();
    assert_eq!(reasons.len(), 12);
}

/// Many first visits to machines at once: each is known once, by the key that it has.
#[test]
fn first_contacts_at_once_are_all_remembered() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let lit: Vec<_> = (0..4).map(|number| light(machine(&format!("lamp-{number}"), &key))).collect();
    let mut commands = Vec::new();
    for one in &lit {
        let address = format!("keeper@{}", one.address);
        desk.lantern(&["machine", "add", &one.name, &address, "trust=first-use"]).expect(0);
        (0..3).for_each(|_| commands.push(words(&["run", &one.name, "--no-questions", "--", "hostname"])));
    }
    for outcome in at_once(&desk, &commands) {
        outcome.expect(0);
    }
    for one in &lit {
        let trust = json(&desk, &["trust", "show", &one.name, "--json"])[0].clone();
        assert_eq!(trust["keys"].as_array().unwrap().len(), 1, "{trust}");
        assert_eq!(trust["keys"][0]["fingerprint"], one.fingerprint.as_str());
        assert_eq!(trust["addresses"].as_array().unwrap().len(), 1, "{trust}");
    }
}

/// Several keys are put into the list of one machine at once: whoever was overtaken does it again. `list` is what the machine has afterwards.
fn install_at_once(desk: &Desk, list: impl Fn() -> String) {
    let names: Vec<String> = (0..6).map(|number| format!("key-{number}")).collect();
    let blob = |name: &str| {
        let line = desk.lantern(&["key", "show", name, "--line"]).expect(0).text().to_owned();
        line.split(' ').nth(1).unwrap().to_owned()
    };
    for name in &names {
        desk.lantern(&["key", "new", name, "--plain"]).expect(0);
    }
    let install: Vec<_> =
        names.iter().map(|name| words(&["key", "install", name, "lamp-01", "--key", "harbour"])).collect();
    for outcome in at_once(desk, &install) {
        outcome.expect(0);
    }
    let there = list();
    for name in names.iter().map(String::as_str).chain(["harbour"]) {
        assert_eq!(there.matches(&blob(name)).count(), 1, "{name}: {there}");
    }
    let withdraw: Vec<_> = names
        .iter()
        .map(|name| words(&["key", "withdraw", name, "lamp-01", "--yes", "--key", "harbour"]))
        .collect();
    for outcome in at_once(desk, &withdraw) {
        outcome.expect(0);
    }
    let there = list();
    assert_eq!((there.lines().count(), there.contains(&blob("harbour"))), (1, true), "{there}");
}

#[test]
fn the_list_of_logins_on_a_machine_keeps_what_each_program_wrote() {
    let desk = Desk::with_key();
    let lit = light(machine("lamp-01", &desk.public_key("harbour")));
    desk.add(&lit);
    install_at_once(&desk, || String::from_utf8(lit.lit.logins("keeper")).unwrap());
}

#[test]
fn the_list_of_logins_on_a_real_machine_keeps_what_each_program_wrote() {
    if !sshd::available() {
        return;
    }
    const MATE: &str = "lampracer";
    sshd::make_user_named(MATE);
    let folder = format!("/home/{MATE}/.ssh");
    let _ = std::fs::remove_dir_all(&folder);
    let desk = Desk::with_key();
    desk.lantern(&["key", "new", "host", "--plain"]).expect(0);
    let server = Sshd::start(&desk, "host", "AuthorizedKeysFile .ssh/authorized_keys\nStrictModes yes");
    desk.lantern(&["machine", "add", "lamp-01", &format!("{MATE}@127.0.0.1:{}", server.port)]).expect(0);
    let fingerprint = desk.public_key("host").fingerprint().to_string();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect", &fingerprint]).expect(0);
    let first = ["key", "install", "harbour", "lamp-01", "--no-key", "--password-from", "fd:3", "--use"];
    desk.with_secrets(&first, sshd::PASSWORD, "").expect(0);
    install_at_once(&desk, || std::fs::read_to_string(format!("{folder}/authorized_keys")).unwrap());
    // Nothing of the attempts is left beside the list.
    let beside: Vec<_> =
        std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(beside, ["authorized_keys"]);
    // One who holds the list for ever is told with what to do about it; that done, it works.
    std::fs::create_dir(format!("{folder}/authorized_keys.lock")).unwrap();
    let again = ["key", "install", "key-0", "lamp-01", "--key", "harbour"];
    let err = desk.lantern(&again).expect(250).err;
    assert!(err.contains("rmdir .ssh/authorized_keys.lock"), "{err}");
    std::fs::remove_dir(format!("{folder}/authorized_keys.lock")).unwrap();
    desk.lantern(&again).expect(0);
}

/// Several start the keeper at the same moment: there is one, and all say that it runs.
#[test]
fn one_keeper_is_started_however_many_start_it() {
    let desk = Desk::with_key();
    let start: Vec<_> = (0..4).map(|_| words(&["keeper", "start", "--json"])).collect();
    let pids: BTreeSet<u64> = at_once(&desk, &start)
        .into_iter()
        .map(|outcome| serde_json::from_str::<serde_json::Value>(outcome.expect(0).text()).unwrap())
        .map(|told| told["pid"].as_u64().unwrap())
        .collect();
    let status = json(&desk, &["keeper", "status", "--json"]);
    desk.lantern(&["keeper", "stop"]).expect(0);
    assert_eq!(pids, BTreeSet::from([status["pid"].as_u64().unwrap()]));
}
