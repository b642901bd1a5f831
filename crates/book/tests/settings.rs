//! Settings put together, selections, imports, shared trust: the model, without a program around it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::BTreeMap;
use std::path::Path;

use jiff::Timestamp;
use lantern_book::{
    BookError, Change, FIELDS, Field, FieldValue, InventoryForm, Kind, KnownKey, MachineBook, Place, Revoked,
    Settings, TrustFile, TrustStore, TrustVerdict, Verified, json_schema, read_inventory,
};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey};
use support::{book, home};

fn host_key(byte: u8) -> PublicKey {
    PublicKey::Ed25519([byte; 32])
}

const COAST: &str = r#"
[defaults]
user = "keeper"
tags = ["all"]
environment = { LANG = "C.UTF-8", TZ = "UTC" }

[profiles.base]
port = 2222
dead-after = 30

[profiles.coast]
profiles = ["base"]
key = "harbour"
tags = ["coast"]
environment = { TZ = "Europe/Dublin" }

[profiles.north]
profiles = ["base"]
key = "north"

[machines.lamp-01]
address = "192.0.2.1"
profiles = ["coast"]
tags = ["old"]

[machines.lamp-02]
address = ["192.0.2.2", "2001:db8::2"]
profiles = ["coast", "north"]
key = "own"

[machines.lamp-03]
address = "192.0.2.3"
profiles = ["coast", "north"]

[machines.bell]
address = "10.0.0.1"
gateway = ["lamp-01", "lamp-02"]
"#;

#[test]
fn what_a_machine_says_itself_wins_and_every_value_knows_its_line() {
    let book = book(COAST);
    let lamp = book.effective("lamp-01").unwrap();
    assert_eq!(lamp.place(), "192.0.2.1:2222");
    assert_eq!(lamp.text(Field::User), Some("keeper"));
    assert_eq!(lamp.list(Field::Tags), ["old", "coast", "all"]);
    let environment = lamp.map(Field::Environment).unwrap();
    assert_eq!((environment["LANG"].as_str(), environment["TZ"].as_str()), ("C.UTF-8", "Europe/Dublin"));
    for (field, from, line) in [
        (Field::Address, "itself", "address = \"192.0.2.1\""),
        (Field::Port, "profile base", "port = 2222"),
        (Field::Key, "profile coast", "key = \"harbour\""),
        (Field::User, "defaults", "user = \"keeper\""),
    ] {
        let origin = lamp.part(field).unwrap().origins().next().unwrap();
        assert_eq!(origin.to_string(), from);
        assert_eq!(COAST.lines().nth(origin.line() as usize - 1), Some(line));
    }
    // A profile that both build on is no clash; two keys are, unless the machine decides.
    assert_eq!(book.effective("lamp-02").unwrap().text(Field::Key), Some("own"));
    let clash = book.effective("lamp-03").unwrap_err().to_string();
    assert!(
        clash.contains("`key`") && clash.contains("profile coast says harbour") && clash.contains("north"),
        "{clash}"
    );
    assert!(book.check().is_err());
    assert_eq!(book.gateways("bell").unwrap(), ["lamp-01", "lamp-02"]);
}

#[test]
fn circles_are_told_with_the_way_around() {
    let profiles = book(
        "[profiles.a]\nprofiles = [\"b\"]\n[profiles.b]\nprofiles = [\"a\"]\n[machines.x]\nprofiles = [\"a\"]\n",
    );
    assert_eq!(profiles.effective("x").unwrap_err().to_string(), "profiles go in a circle: a → b → a");
    let gateways = book("[machines.a]\ngateway = \"b\"\n[machines.b]\ngateway = \"a\"\n");
    assert_eq!(gateways.gateways("a").unwrap_err().to_string(), "gateways go in a circle: a → b → a");
    assert!(matches!(
        book("[machines.x]\nprofiles = [\"no\"]\n").effective("x"),
        Err(BookError::Unknown { .. })
    ));
}

#[test]
fn errors_name_line_field_what_was_met_what_is_allowed_and_the_nearest_word() {
    for (text, line, words) in [
        ("[machines.a]\nadress = \"x\"\n", 2, &["adress", "did you mean `address`"][..]),
        ("[machines.a]\nport = \"high\"\n", 2, &["port", "the string \"high\"", "1 to 65535"]),
        ("[machines.a]\nport = 70000\n", 2, &["70000", "1 to 65535"]),
        (
            "[machines.a]\ntrust = \"aks\"\n",
            2,
            &["aks", "ask, known-only or first-use", "did you mean `ask`"],
        ),
        ("[machines.a]\nforward-agent = \"yes\"\n", 2, &["forward-agent", "true or false"]),
        ("[machines.a]\n[machines.a.tunnels]\nx = \"sideways 1\"\n", 2, &["local LISTEN to PLACE"]),
        ("[machines.a]\nproxy = \"http://u:p@x\"\n", 2, &["must not contain a password"]),
        ("[machins.a]\n", 1, &["did you mean `machines`"]),
        ("[machines.\"a b\"]\n", 1, &["letters, digits"]),
        ("[defaults]\nnote = \"x\"\n", 2, &["belongs to one machine"]),
        ("[machines.a]\ntags = [\"x\", \"x\"]\n", 2, &["repeats itself"]),
    ] {
        let error = MachineBook::parse(Path::new("machines.toml"), text).unwrap_err();
        let BookError::Syntax { line: met, ref message, .. } = error else { panic!("{error}") };
        assert_eq!(met, line, "{text}: {message}");
        assert!(words.iter().all(|word| message.contains(word)), "{text}: {message}");
    }
}

#[test]
fn the_schema_knows_every_field_and_every_example_is_allowed() {
    let schema = json_schema();
    let machine = &schema["properties"]["machines"]["additionalProperties"]["properties"];
    for spec in FIELDS {
        assert!(machine[spec.name].is_object(), "{}", spec.name);
        assert_eq!(spec.field.spec().name, spec.name);
        FieldValue::parse(spec.field, spec.example).unwrap_or_else(|error| panic!("{}: {error}", spec.name));
        if let Kind::Choice(words) = spec.kind {
            assert_eq!(machine[spec.name]["enum"].as_array().unwrap().len(), words.len());
        }
    }
    assert!(schema["properties"]["profiles"]["additionalProperties"]["properties"]["note"].is_null());
}

#[test]
fn changes_set_add_take_and_leave_the_rest_of_the_file_alone() {
    let (_folder, home) = home();
    std::fs::create_dir_all(home.path()).unwrap();
    let text = "# the coast\n[machines.lamp-01] # first\naddress = '192.0.2.1' # on the hill\ntags = [\"a\", \"b\"]\n\n[machines.lamp-01.environment]\n# why\nLANG = \"C\"\nTZ = \"UTC\"\n\n[machines.gate]\naddress = \"192.0.2.9\"\n\n[machines.bell]\naddress = \"10.0.0.1\"\ngateway = \"gate\"\n";
    std::fs::write(home.file("machines.toml"), text).unwrap();
    let change = |texts: &[&str]| {
        let changes: Vec<Change> = texts.iter().map(|text| Change::parse(text).unwrap()).collect();
        MachineBook::edit(&home, |edit| edit.change(Place::Machine("lamp-01"), &changes))
    };
    change(&["port=2222", "tags+=c,a", "tags-=b", "environment.TZ=Europe/Dublin", "environment-=LANG"])
        .unwrap();
    assert!(change(&["tags-=zz"]).is_err() && change(&["port+=1"]).is_err());
    MachineBook::edit(&home, |edit| edit.rename_machine("gate", "harbour-gate")).unwrap();
    let written = MachineBook::text(&home).unwrap();
    for kept in ["# the coast", "# first", "address = '192.0.2.1' # on the hill", "[machines.harbour-gate]"] {
        assert!(written.contains(kept), "{kept}: {written}");
    }
    let book = MachineBook::load(&home).unwrap();
    assert_eq!(book.get("lamp-01").unwrap().list(Field::Tags), ["a", "c"]);
    assert_eq!(book.get("bell").unwrap().list(Field::Gateway), ["harbour-gate"]);
    assert_eq!(
        book.get("lamp-01").unwrap().map(Field::Environment).unwrap(),
        &BTreeMap::from([("TZ".into(), "Europe/Dublin".into())])
    );
    // A change that would make the book contradict itself is not written.
    let circle = Change::parse("gateway=bell").unwrap();
    let error =
        MachineBook::edit(&home, |edit| edit.change(Place::Machine("harbour-gate"), &[circle])).unwrap_err();
    assert!(error.to_string().contains("circle"), "{error}");
    assert_eq!(MachineBook::text(&home).unwrap(), written);
    // Somebody else's change in between is not written over.
    std::fs::write(home.file("machines.toml"), format!("{written}# more\n")).unwrap();
    assert!(matches!(MachineBook::replace_text(&home, &written, ""), Err(BookError::Changed { .. })));
}

fn rows(text: &str, form: InventoryForm) -> Vec<lantern_book::Row> {
    read_inventory(Path::new("inventory"), text, form, None).unwrap()
}

#[test]
fn inventories_of_every_form_and_shape_are_read() {
    let cloud = r#"{"reservations": 1, "instances": [{"tags": [{"Key": "Name", "Value": "lamp"}], "network": {"public": "192.0.2.1"}, "up": true, "ips": ["a", "b"]}]}"#;
    let row = &rows(cloud, InventoryForm::Json)[0];
    assert_eq!((row["tags.Name"].as_str(), row["network.public"].as_str()), ("lamp", "192.0.2.1"));
    assert_eq!((row["up"].as_str(), row["ips"].as_str()), ("true", "a,b"));
    let named = rows(
        "lamp-01:\n  address: 192.0.2.1\n  port: 2222\nbell:\n  address: 192.0.2.2\n",
        InventoryForm::Yaml,
    );
    assert_eq!(named.iter().find(|row| row["name"] == "lamp-01").unwrap()["port"], "2222");
    assert_eq!(rows("[[machine]]\nname = 'x'\n", InventoryForm::Toml)[0]["name"], "x");
    let error =
        read_inventory(Path::new("i"), "a,b\n1,2\n3\n", InventoryForm::Csv, None).unwrap_err().to_string();
    assert!(error.contains("line 3") && error.contains("1 columns"), "{error}");
    let error =
        read_inventory(Path::new("i"), "{\"a\": 1}", InventoryForm::Json, None).unwrap_err().to_string();
    assert!(error.contains("--at"), "{error}");
    assert!(read_inventory(Path::new("i"), &"*a ".repeat(100), InventoryForm::Yaml, None).is_err());
    assert!(read_inventory(Path::new("i"), "a: [", InventoryForm::Yaml, None).is_err());
}

#[test]
fn shared_trust_is_taken_in_when_signed_and_refused_when_changed() {
    let (_folder, ours) = home();
    let now: Timestamp = "2026-03-01T12:00:00Z".parse().unwrap();
    TrustStore::accept(&ours, "lamp-01", "192.0.2.1:22", &host_key(1), Verified::Pasted, now).unwrap();
    TrustStore::accept(&ours, "lamp-02", "192.0.2.2:22", &host_key(2), Verified::Accepted, now).unwrap();
    TrustStore::revoke(
        &ours,
        Revoked { fingerprint: host_key(9).fingerprint(), reason: "copied".into(), since: now },
    )
    .unwrap();
    let signer = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    let store = TrustStore::load(&ours).unwrap();
    let text = TrustFile::write(&store, |_| true, Some((&signer, "keeper"))).unwrap();
    let read = |text: &str| TrustFile::read(Path::new("coast.trust"), text);
    let file = read(&text).unwrap();
    assert_eq!(file.signer.as_ref(), Some(signer.public()));
    // Any byte of what was signed, and of the signature.
    for at in [60, text.len() / 2, text.len() - 10] {
        let mut changed = text.clone().into_bytes();
        changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
        if let Ok(file) = read(&String::from_utf8(changed).unwrap()) {
            panic!("byte {at} of a signed file could be changed: {file:?}");
        }
    }
    assert!(matches!(read(&text.replace("lamp-02", "lamp-03")), Err(BookError::Tampered { .. })));
    // Cut off, it is merely unsigned, and says so.
    let unsigned = read(text.split("-----\n").next().unwrap()).unwrap();
    assert!(unsigned.signer.is_none() && unsigned.records["lamp-01"].keys[0].verified == Verified::Imported);
    let (_other, theirs) = home();
    TrustStore::accept(&theirs, "lamp-02", "192.0.2.2:22", &host_key(7), Verified::Expected, now).unwrap();
    let (taken, left) = TrustStore::take_in(&theirs, &file.records, &file.revoked).unwrap();
    assert_eq!((taken, left), (vec!["lamp-01".to_owned()], vec!["lamp-02".to_owned()]));
    let store = TrustStore::load(&theirs).unwrap();
    let known = &store.get("lamp-01").unwrap().unwrap().keys[0];
    assert_eq!((known.verified, known.by), (Verified::Signed, Some(signer.public().fingerprint())));
    assert!(matches!(store.assess("new", "x:22", &host_key(9).into()).unwrap(), TrustVerdict::Revoked(_)));
    assert_eq!(store.get("lamp-02").unwrap().unwrap().keys[0].key, host_key(7));
}

#[test]
fn announced_keys_come_in_only_over_a_known_one_and_revoked_ones_never() {
    let (_folder, home) = home();
    let now = Timestamp::UNIX_EPOCH;
    TrustStore::accept(&home, "lamp", "192.0.2.1:22", &host_key(1), Verified::Pasted, now).unwrap();
    TrustStore::add_key(&home, "lamp", "192.0.2.1:22", &KnownKey::new(host_key(2), Verified::Announced, now))
        .unwrap();
    TrustStore::revoke(
        &home,
        Revoked { fingerprint: host_key(4).fingerprint(), reason: "x".into(), since: now },
    )
    .unwrap();
    let take = |current: u8, announced: &[u8], proven: &[u8]| {
        let keys = |bytes: &[u8]| bytes.iter().map(|byte| host_key(*byte)).collect::<Vec<_>>();
        TrustStore::take_over(&home, "lamp", &host_key(current), &keys(announced), &keys(proven), now)
            .unwrap()
    };
    // Over a key that is not known, or that the machine does not announce itself, nothing changes.
    assert_eq!(take(8, &[8, 3], &[3]), lantern_book::Rotation::default());
    assert_eq!(take(1, &[3], &[3]), lantern_book::Rotation::default());
    let rotation = take(1, &[1, 3, 4, 5], &[3, 4, 6]);
    assert_eq!((rotation.added, rotation.dropped), (vec![host_key(3)], vec![host_key(2)]));
    let keys: Vec<_> = TrustStore::load(&home).unwrap().good_keys("lamp").unwrap();
    assert_eq!(keys, [host_key(1), host_key(3)]);
}

#[test]
fn a_thousand_rounds_of_two_programs_lose_nothing() {
    let (_folder, home) = home();
    let rounds = 500u32;
    std::thread::scope(|scope| {
        for writer in 0..2u8 {
            let home = &home;
            scope.spawn(move || {
                // One machine and one record for each, changed over and over beside the other's.
                let name = format!("lamp-{writer}");
                MachineBook::add(home, &name, &Settings::at("192.0.2.1").unwrap()).unwrap();
                for round in 1..=rounds {
                    let change = Change::parse(&format!("port={round}")).unwrap();
                    MachineBook::edit(home, |edit| edit.change(Place::Machine(&name), &[change])).unwrap();
                    let key = PublicKey::Ed25519([(round % 250) as u8; 32]);
                    let place = format!("192.0.2.1:{round}");
                    TrustStore::accept(home, &name, &place, &key, Verified::Pasted, Timestamp::UNIX_EPOCH)
                        .unwrap();
                    if round % 50 == 0 {
                        MachineBook::add(
                            home,
                            &format!("{name}-{round}"),
                            &Settings::at("192.0.2.2").unwrap(),
                        )
                        .unwrap();
                    }
                }
            });
        }
    });
    let (book, trust) = (MachineBook::load(&home).unwrap(), TrustStore::load(&home).unwrap());
    assert_eq!(book.iter().count(), 2 + 20);
    for writer in 0..2 {
        let name = format!("lamp-{writer}");
        assert_eq!(book.get(&name).unwrap().get(Field::Port), Some(&FieldValue::Number(rounds.into())));
        let record = trust.get(&name).unwrap().unwrap();
        assert_eq!(record.keys[0].key, PublicKey::Ed25519([(rounds % 250) as u8; 32]));
        assert_eq!(record.addresses.last().unwrap(), &format!("192.0.2.1:{rounds}"));
        assert_eq!(record.addresses.len(), 16);
    }
}
