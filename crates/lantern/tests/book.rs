//! `lantern machine`, `profile` and `trust` as people use them.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;

use lantern_harbour::MachineSpec;
use lantern_keys::{Curve, KeyAlgorithm, PrivateKey, RsaBits};
use serde_json::Value;
use support::{Desk, Screen, light, machine};

fn json(desk: &Desk, words: &[&str]) -> Value {
    let words = [words, &["--json"]].concat();
    serde_json::from_str(desk.lantern(&words).expect(0).text()).unwrap()
}

fn text(desk: &Desk) -> String {
    std::fs::read_to_string(desk.home().join("machines.toml")).unwrap_or_default()
}

#[test]
fn what_is_pasted_is_understood_shown_and_saved_after_a_yes() {
    let desk = Desk::with_key();
    std::fs::write(desk.folder.path().join("other.pem"), {
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "from the console").unwrap();
        let form = lantern_keys::container::PrivateContainer::OpensshKeyV1;
        let none = lantern_keys::container::Protect::default();
        lantern_keys::container::write_private(&key, form, none, &mut lantern_keys::SystemRandom)
            .unwrap()
            .to_vec()
    })
    .unwrap();
    let line = "ssh -i other.pem -p 2222 -J warden@192.0.2.30 keeper@192.0.2.7";
    let mut screen = Screen::open(&desk, &["machine", "add", "lamp-07", "--paste", line]);
    let shown = screen.wait_for("Save it? Type yes or no:");
    for words in ["192.0.2.7", "2222", "keeper", "warden@192.0.2.30", "other.pem"] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
    screen.send("yes\r");
    screen.wait_for("Take the key file other.pem into the ring?");
    screen.send("yes\r");
    screen.wait_for("New passphrase");
    screen.send("\x03");
    assert_eq!(screen.wait_for_exit(), 252);
    assert!(!text(&desk).contains("lamp-07"));
    // Without a terminal nothing is saved unasked; with --yes it is.
    desk.without_terminal(&["machine", "add", "lamp-07", "--paste", line]).expect(240);
    desk.lantern(&["machine", "add", "lamp-07", "--paste", line, "--yes"]).expect(0);
    let shown = json(&desk, &["machine", "show", "lamp-07"])[0].clone();
    assert_eq!(
        (shown["port"].as_u64(), shown["gateway"][0].as_str()),
        (Some(2222), Some("warden@192.0.2.30"))
    );
    let page = "Public IPv4 address\t192.0.2.9\nUser name: tide\n";
    desk.lantern_with_input(&["machine", "add", "lamp-08", "--paste", "-", "--yes"], page.into()).expect(0);
    assert_eq!(json(&desk, &["machine", "show", "lamp-08"])[0]["user"], "tide");
    let err = desk.lantern(&["machine", "add", "x", "--paste", "nothing here"]).expect(241).err;
    assert!(err.contains("no address in it"), "{err}");
    // Asked for what is missing.
    let mut screen = Screen::open(&desk, &["machine", "add", "lamp-09"]);
    screen.wait_for("Address");
    screen.send("192.0.2.19\r");
    screen.wait_for("User [keeper]:");
    screen.send("\r");
    screen.wait_for("Key (harbour)");
    screen.send("harbour\r");
    assert_eq!(screen.wait_for_exit(), 0);
    assert_eq!(json(&desk, &["machine", "show", "lamp-09"])[0]["key"], "harbour");
    let said =
        desk.lantern(&["machine", "add", "cloudy", "192.0.2.20", "--image", "debian-12"]).expect(0).err;
    assert!(said.contains("first user of debian images is admin"), "{said}");
}

#[test]
fn machines_are_changed_one_or_many_with_a_plan_first() {
    let desk = Desk::with_key();
    for number in 1..4 {
        let (name, address) = (format!("lamp-0{number}"), format!("192.0.2.{number}"));
        desk.lantern(&["machine", "add", &name, &address, "--tag", "coast"]).expect(0);
    }
    desk.lantern(&["profile", "add", "deep", "port=2222", "key=harbour"]).expect(0);
    let before = text(&desk);
    let plan = desk.lantern(&["machine", "set", "@coast", "profiles+=deep", "--plan"]).expect(0);
    let plan = plan.text();
    assert!(plan.contains("changed  lamp-03  profiles  nothing → deep") && text(&desk) == before, "{plan}");
    desk.without_terminal(&["machine", "set", "@coast", "profiles+=deep"]).expect(240);
    desk.lantern(&["machine", "set", "@coast", "profiles+=deep", "--except", "lamp-02", "--yes"]).expect(0);
    let err = desk.lantern(&["machine", "set", "@coast,!lamp-02", "profiles+=deep", "--yes"]).expect(241).err;
    assert!(err.contains("--except"), "{err}");
    let list = desk
        .lantern(&[
            "machine",
            "list",
            "--where",
            "port=2222",
            "--columns",
            "name,port,key",
            "--sort",
            "address",
        ])
        .expect(0);
    assert_eq!(list.text(), "NAME     PORT  KEY\nlamp-01  2222  harbour\nlamp-03  2222  harbour\n");
    let show = desk.lantern(&["machine", "show", "lamp-01"]).expect(0);
    assert!(show.text().contains("profile deep, line"), "{}", show.text());
    let nearest = desk.lantern(&["machine", "set", "lamp-01", "adress=x"]).expect(241).err;
    assert!(nearest.contains("did you mean `address`"), "{nearest}");
    desk.lantern(&["machine", "set", "lamp-01", "key=lost"]).expect(241);
    desk.lantern(&["profile", "remove", "deep"]).expect(241);
    desk.lantern(&["profile", "rename", "deep", "deeper"]).expect(0);
    assert_eq!(json(&desk, &["profile", "show", "deeper"])["machines"].as_array().unwrap().len(), 2);
    desk.lantern(&["profile", "set", "defaults", "user=warden"]).expect(0);
    assert_eq!(json(&desk, &["machine", "show", "lamp-02"])[0]["user"], "warden");
    desk.lantern(&["machine", "copy", "lamp-01", "lamp-04", "address=192.0.2.4"]).expect(0);
    desk.lantern(&["machine", "copy", "lamp-0*", "spare-*", "--plan"]).expect(0);
    desk.lantern(&["machine", "copy", "lamp-0*", "spare-*", "--yes"]).expect(0);
    desk.lantern(&["machine", "remove", "spare-*", "--yes"]).expect(0);
    desk.lantern(&["machine", "set", "lamp-02", "gateway=lamp-04"]).expect(0);
    assert!(
        desk.lantern(&["machine", "remove", "lamp-04"]).expect(241).err.contains("is the gateway of lamp-02")
    );
    desk.lantern(&["machine", "rename", "lamp-*", "north-*", "--yes"]).expect(0);
    assert_eq!(json(&desk, &["machine", "show", "north-02"])[0]["gateway"][0], "north-04");
    desk.lantern(&["machine", "remove", "north-*", "--yes"]).expect(0);
    assert_eq!(json(&desk, &["machine", "list"]), serde_json::json!([]));
    assert!(desk.lantern(&["machine", "schema"]).expect(0).text().contains("known-only"));
}

#[test]
fn an_edit_is_checked_before_it_is_taken_and_nothing_is_lost() {
    let desk = Desk::new();
    desk.lantern(&["machine", "add", "lamp-01", "192.0.2.1"]).expect(0);
    let editor = |script: &str| {
        let path = desk.folder.path().join("editor");
        std::fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    };
    let edit = || {
        let mut command = desk.command(&["machine", "edit"]);
        command.env("EDITOR", desk.folder.path().join("editor")).env("PATH", "/usr/bin:/bin");
        let outcome: support::Outcome = command.output().unwrap().into();
        outcome
    };
    let before = text(&desk);
    editor("sed -i 's/192.0.2.1/192.0.2.77/' \"$1\"");
    edit().expect(0);
    assert_eq!(text(&desk), before.replace("192.0.2.1", "192.0.2.77"));
    let before = text(&desk);
    editor("echo 'adress = 1' >> \"$1\"");
    let mut command = std::process::Command::new("setsid");
    command.args(["--wait", support::binary(), "machine", "edit"]).env_clear();
    command
        .env("LANTERN_HOME", desk.home())
        .env("EDITOR", desk.folder.path().join("editor"))
        .env("PATH", "/usr/bin:/bin");
    let outcome: support::Outcome = command.output().unwrap().into();
    let err = outcome.expect(241).err;
    assert!(err.contains("did you mean `address`") && err.contains("not-taken"), "{err}");
    assert_eq!(text(&desk), before);
    let kept = std::fs::read_to_string(desk.home().join("machines.toml.not-taken")).unwrap();
    assert!(kept.ends_with("adress = 1\n"));
    // Another program's change meanwhile is not written over.
    editor(&format!(
        "echo '# mine' >> \"$1\"; echo '# theirs' >> {}",
        desk.home().join("machines.toml").display()
    ));
    assert!(edit().expect(241).err.contains("changed by another program"));
    assert!(text(&desk).ends_with("# theirs\n"));
    // Some machines only: the rest of the file stays as it is, comments and all.
    desk.lantern(&["machine", "add", "foghorn", "192.0.2.2"]).expect(0);
    editor("grep -q foghorn \"$1\" && exit 4; sed -i 's/192.0.2.77/192.0.2.78/' \"$1\"");
    let some = |more: &[&str]| {
        let mut command = desk.command(&[&["machine", "edit", "lamp-*"], more].concat());
        command.env("EDITOR", desk.folder.path().join("editor")).env("PATH", "/usr/bin:/bin");
        let outcome: support::Outcome = command.output().unwrap().into();
        outcome.expect(0).text().to_owned()
    };
    let before = text(&desk);
    let plan = some(&["--plan"]);
    assert_eq!(plan, "changed  lamp-01  address  192.0.2.77 → 192.0.2.78\n");
    assert_eq!(text(&desk), before);
    some(&[]);
    assert_eq!(text(&desk), before.replace("192.0.2.77", "192.0.2.78"));
    editor("exit 3");
    assert!(edit().expect(241).err.contains("the book is as it was"));
}

#[test]
fn a_rename_killed_at_any_write_leaves_no_stranger_and_can_be_finished() {
    for stop in 1..40 {
        let desk = Desk::with_key();
        let lit = light(machine("lamp-01", &desk.public_key("harbour")));
        desk.add(&lit);
        let mut command = desk.command(&["machine", "rename", "lamp-01", "lamp-north"]);
        let outcome: support::Outcome =
            command.env("LANTERN_TEST_STOP_AT", stop.to_string()).output().unwrap().into();
        let names = json(&desk, &["machine", "list"]);
        let name = names[0]["name"].as_str().unwrap().to_owned();
        assert_eq!(names.as_array().unwrap().len(), 1);
        desk.lantern(&["run", &name, "--no-questions", "--", "true"]);
        assert_eq!(
            json(&desk, &["trust", "show", &name])[0]["keys"][0]["fingerprint"],
            lit.fingerprint.as_str()
        );
        if name == "lamp-01" {
            desk.lantern(&["machine", "rename", "lamp-01", "lamp-north"]).expect(0);
        }
        if outcome.status == 0 {
            assert!(stop > 4, "the write that was to be stopped at was never reached");
            assert!(desk.lantern(&["trust", "show", "lamp-01"]).status != 0);
            return;
        }
    }
    panic!("a rename has fewer writes than that");
}

#[test]
fn an_inventory_is_followed_from_the_command_line() {
    let desk = Desk::new();
    let path = desk.folder.path().join("north.csv");
    std::fs::write(
        &path,
        "vm,public_ip,login,state\nlamp-01,192.0.2.1,keeper,running\nlamp-02,192.0.2.2,keeper,stopped\n",
    )
    .unwrap();
    let import = |more: &[&str], status| {
        desk.lantern(&[&["machine", "import", "north.csv", "--only", "state=running"], more].concat())
            .expect(status)
    };
    assert!(import(&["--plan"], 0).text().starts_with("new  lamp-01") && text(&desk).is_empty());
    import(&["--tag", "north"], 0);
    assert_eq!(json(&desk, &["machine", "show", "lamp-01"])[0]["tags"][0], "north");
    std::fs::write(&path, "vm,public_ip,login,state\nlamp-02,192.0.2.2,keeper,running\n").unwrap();
    assert!(import(&[], 0).err.contains("--remove-gone"));
    let steps: Value = serde_json::from_str(import(&["--remove-gone", "--json"], 0).text()).unwrap();
    assert_eq!(steps["steps"].as_array().unwrap().iter().filter(|s| s["step"] == "gone").count(), 1);
    assert_eq!(json(&desk, &["machine", "list"]).as_array().unwrap().len(), 1);
    let yaml = desk.lantern(&["machine", "export", "--form", "yaml"]).expect(0);
    let other = Desk::new();
    other
        .lantern_with_input(&["machine", "import", "-", "--form", "yaml", "--source", "x"], yaml.out)
        .expect(0);
    assert_eq!(json(&other, &["machine", "list"])[0]["address"], "192.0.2.2");
    assert!(desk.lantern(&["machine", "import", "no.csv"]).expect(241).err.contains("no.csv"));
    assert!(import(&["--map", "adress=public_ip"], 241).err.contains("did you mean `address`"));
    assert!(import(&["--map", "address=pubic_ip"], 241).err.contains("did you mean `public_ip`"));
    // A thousand rows are a few lines; each of them where somebody wants to see it.
    let many: String = (0..1000).map(|number| format!("buoy-{number},192.0.2.1,keeper,running\n")).collect();
    std::fs::write(&path, format!("vm,public_ip,login,state\n{many}buoy-x,,keeper,running\n")).unwrap();
    let all = import(&["--plan", "--source", "fleet"], 241);
    assert!(all.text().lines().count() > 1000, "{}", all.text());
    let short = import(&["--source", "fleet"], 241);
    assert!(short.err.lines().count() < 12 && short.out.is_empty(), "{}", short.err);
    for words in ["new       1000", "bad rows  1", "buoy-x has no address; --without-address", "--plan"] {
        assert!(short.err.contains(words), "{words}: {}", short.err);
    }
    // So it is with whatever changes many at once.
    let set = desk.without_terminal(&["machine", "set", "buoy-*", "port=2222"]).expect(240);
    assert!(
        set.err.lines().count() < 6 && set.err.contains("1000 changed; `--plan` lists them"),
        "{}",
        set.err
    );
}

#[test]
fn trust_is_scanned_shared_revoked_and_audited() {
    let desk = Desk::with_key();
    let key = desk.public_key("harbour");
    let kinds = [KeyAlgorithm::Ed25519, KeyAlgorithm::Ecdsa(Curve::P256), KeyAlgorithm::Rsa(RsaBits::B2048)];
    let host_keys = kinds.map(|kind| Arc::new(PrivateKey::generate(kind, "").unwrap())).to_vec();
    let prints: Vec<String> = host_keys.iter().map(|key| key.public().fingerprint().to_string()).collect();
    let lit = light(MachineSpec { host_keys, ..machine("lamp-01", &key) });
    desk.lantern(&["machine", "add", "lamp-01", &format!("keeper@{}", lit.address)]).expect(0);
    let scan: Value =
        serde_json::from_str(desk.lantern(&["trust", "look", "lamp-01", "--json"]).expect(248).text())
            .unwrap();
    let met: Vec<&str> =
        scan[0]["keys"].as_array().unwrap().iter().map(|key| key["fingerprint"].as_str().unwrap()).collect();
    assert_eq!(met, prints);
    // Only what was compared is trusted: the two that the list has.
    std::fs::write(
        desk.folder.path().join("list"),
        format!("# from the console\nlamp-01 {} {}\n", prints[0], prints[2]),
    )
    .unwrap();
    desk.lantern(&["trust", "accept", "lamp-01", "--expect-file", "list"]).expect(0);
    let keys = json(&desk, &["trust", "show", "lamp-01"])[0]["keys"].clone();
    assert_eq!(keys.as_array().unwrap().len(), 2);
    assert!(
        desk.lantern(&["trust", "look", "lamp-01"])
            .expect(0)
            .text()
            .contains("1 of its 3 keys are not known yet")
    );
    let audit = desk.lantern(&["trust", "audit"]).expect(1);
    assert!(audit.text().contains("weak") && audit.text().contains("RSA 2048"), "{}", audit.text());
    // Shared with another home, signed.
    desk.lantern(&["trust", "export", "--key", "harbour", "--to", "coast.trust"]).expect(0);
    let other = Desk::new();
    let path = desk.folder.path().join("coast.trust");
    let path = path.to_str().unwrap();
    let signer = desk.public_key("harbour").fingerprint().to_string();
    assert!(other.without_terminal(&["trust", "import", path]).expect(240).err.contains(&signer));
    other.lantern(&["trust", "import", path, "--signer", &prints[0]]).expect(248);
    other.lantern(&["trust", "import", path, "--signer", &signer]).expect(0);
    assert_eq!(json(&other, &["trust", "show", "lamp-01"])[0]["keys"][0]["by"], signer.as_str());
    let tampered = std::fs::read_to_string(path).unwrap().replace("lamp-01", "lamp-99");
    std::fs::write(other.folder.path().join("bad.trust"), tampered).unwrap();
    let err = other.lantern(&["trust", "import", "bad.trust", "--signer", &signer]).expect(241).err;
    assert!(err.contains("changed after it was signed"), "{err}");
    desk.lantern(&["trust", "export", "--unsigned", "--to", "plain.trust"]).expect(0);
    let plain = desk.folder.path().join("plain.trust");
    other.lantern(&["trust", "import", plain.to_str().unwrap()]).expect(248);
    // A certificate beside the keys.
    let pem = std::process::Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:P-256",
            "-nodes",
            "-subj",
            "/CN=foghorn.example",
            "-days",
            "30",
            "-keyout",
            "/dev/null",
        ])
        .output()
        .unwrap();
    std::fs::write(desk.folder.path().join("c.pem"), pem.stdout).unwrap();
    assert!(
        desk.lantern(&["trust", "accept", "lamp-01", "--certificate", "c.pem"])
            .expect(0)
            .err
            .contains("CN=foghorn.example")
    );
    assert!(desk.lantern(&["trust", "list"]).expect(0).text().contains("TLS certificate"));
    assert!(
        desk.lantern(&["trust", "accept", "lamp-01", "--certificate", "list"])
            .expect(241)
            .err
            .contains("no X.509")
    );
    // Refused from now on, whoever presents it.
    desk.lantern(&["run", "lamp-01", "--", "true"]).expect(127);
    let said =
        desk.lantern(&["trust", "revoke", &prints[0], "--reason", "copied with an image"]).expect(0).err;
    assert!(said.contains("it is the key of lamp-01"), "{said}");
    let one = light(machine("lamp-02", &key));
    desk.add(&one);
    desk.lantern(&["trust", "revoke", &one.fingerprint, "--reason", "found in a backup"]).expect(0);
    let err = desk.lantern(&["run", "lamp-02", "--", "true"]).expect(248).err;
    assert!(err.contains("was revoked") && err.contains("found in a backup"), "{err}");
    desk.lantern(&["trust", "accept", "lamp-02", "--expect", &one.fingerprint]).expect(248);
    desk.lantern(&["trust", "unrevoke", &one.fingerprint]).expect(0);
    desk.lantern(&["run", "lamp-02", "--", "whoami"]).expect(0);
    assert_eq!(json(&desk, &["trust", "revoked"]).as_array().unwrap().len(), 1);
}
