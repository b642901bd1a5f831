//! This computer alone, well and unwell: each symptom by its cause, and what is advised mends it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;

use serde_json::Value;
use support::Desk;

fn seen(desk: &Desk, words: &[&str], status: i32) -> Vec<Value> {
    let out = desk.lantern(&[&["doctor", "--json"], words].concat()).expect(status);
    serde_json::from_str(out.text()).unwrap()
}

/// The symptoms about something, which are not as they should be.
fn doubts<'s>(seen: &'s [Value], about: &str) -> Vec<&'s Value> {
    seen.iter().filter(|symptom| symptom["about"] == about && symptom["state"] == "doubt").collect()
}

#[test]
fn a_computer_that_is_well_is_told_as_that() {
    let desk = Desk::with_key();
    let all = seen(&desk, &[], 0);
    for about in ["home", "disk", "book", "trust", "keys", "keeper", "display", "clock", "terminal"] {
        assert!(all.iter().any(|symptom| symptom["about"] == about), "{about}: {all:?}");
    }
    // So is one where nothing is yet.
    let empty = Desk::new();
    let all = seen(&empty, &[], 0);
    assert!(all[0]["saw"].as_str().unwrap().contains("is not there yet"), "{all:?}");
    assert!(!empty.home().exists(), "looking makes nothing");
}

#[test]
fn what_is_amiss_is_found_and_what_can_be_mended_is() {
    let desk = Desk::with_key();
    desk.lantern(&["key", "new", "spare", "--plain"]).expect(0);
    let home = desk.home();
    let mode =
        |path: &std::path::Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    mode(&home, 0o755);
    mode(&home.join("keys/harbour.key"), 0o644);
    fs::remove_file(home.join("keys/spare.key")).unwrap();
    drop(UnixListener::bind(home.join("keeper.sock")).unwrap());
    fs::write(home.join("machines.toml"), "[machines.lamp-01]\naddres = \"192.0.2.7\"\n").unwrap();
    fs::write(home.join("imports.toml"), "a slip of the pen\n").unwrap();
    let later = "2099-01-01T00:00:00Z";
    fs::write(
        home.join("trust.toml"),
        format!("# lantern trust, form 1\n[machines.lamp-01]\naddresses = []\n[[machines.lamp-01.keys]]\nkey = \"{}\"\nverified = \"pasted\"\nfirst-seen = \"{later}\"\nlast-seen = \"{later}\"\n",
            desk.lantern(&["key", "show", "harbour", "--line"]).expect(0).text().split_whitespace().take(2).collect::<Vec<_>>().join(" ")),
    )
    .unwrap();
    let all = seen(&desk, &[], 1);
    for (about, words) in [
        ("home", "others can look into"),
        ("book", "addres"),
        ("keys", "others can read"),
        ("keys", "the private file of spare is gone"),
        ("imports", "line 1"),
        ("keeper", "left over"),
        ("clock", "2099-01-01"),
    ] {
        let found = doubts(&all, about);
        assert!(
            found.iter().any(|symptom| symptom["saw"].as_str().unwrap().contains(words)),
            "{about}: {all:#?}"
        );
        assert!(
            found.iter().all(|symptom| symptom["next"].is_string()),
            "{about} has nothing to do about it: {all:#?}"
        );
    }
    // Of no key it is said that it is well.
    assert!(
        all.iter().all(|symptom| (&symptom["about"], &symptom["state"]) != (&"keys".into(), &"ok".into())),
        "{all:#?}"
    );
    // Without a yes nothing is changed; with it what is ours to mend is.
    desk.without_terminal(&["doctor", "--fix"]).expect(240);
    assert!(home.join("keeper.sock").exists());
    let all = seen(&desk, &["--fix", "--yes"], 1);
    assert!(doubts(&all, "home").is_empty() && doubts(&all, "keeper").is_empty(), "{all:#?}");
    assert!(!home.join("keeper.sock").exists());
    assert_eq!(fs::metadata(home.join("keys/harbour.key")).unwrap().permissions().mode() & 0o777, 0o600);
    // The rest by what is said.
    fs::write(home.join("imports.toml"), "").unwrap();
    fs::write(home.join("machines.toml"), "[machines.lamp-01]\naddress = \"192.0.2.7\"\n").unwrap();
    desk.lantern(&["key", "remove", "spare", "--yes"]).expect(0);
    desk.lantern(&["trust", "forget", "lamp-01", "--yes"]).expect(0);
    seen(&desk, &[], 0);
}

/// A disk that takes nothing, and an agent and a display that do not answer.
#[test]
fn what_surrounds_us_is_looked_at_too() {
    let desk = Desk::new();
    let mut command = desk.command(&["--home", "/proc/1", "doctor"]);
    let out: support::Outcome = command.output().unwrap().into();
    assert!(out.expect(1).text().contains("cannot be written to"));
    let desk = Desk::with_key();
    let mut command = desk.command(&["doctor"]);
    command
        .env("SSH_AUTH_SOCK", "/nowhere/agent")
        .env("DISPLAY", ":77")
        .env("LANG", "C")
        .env("SHELL", "/bin/bash");
    let house = desk.folder.path().join("two words");
    let out: support::Outcome = command.env("HOME", &house).output().unwrap().into();
    let out = out.expect(0);
    for words in
        ["does not answer", "the display :77", "ASCII only", "mkdir -p", "lantern completions bash >"]
    {
        assert!(out.text().contains(words), "{words}: {}", out.text());
    }
    // What is advised, followed.
    let line = out.text().lines().find(|line| line.contains("mkdir -p")).unwrap();
    let advised =
        line[line.find("mkdir").unwrap()..].replace("&& lantern", &format!("&& {}", support::binary()));
    assert!(std::process::Command::new("sh").args(["-c", &advised]).status().unwrap().success());
    let mut command = desk.command(&["doctor"]);
    let out: support::Outcome =
        command.env("SHELL", "/bin/bash").env("HOME", &house).output().unwrap().into();
    assert!(!out.text().contains("does not complete"), "{}", out.text());
}
