//! Settings put together, selections, imports, shared trust: the model, without a program around it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use jiff::Timestamp;
use lantern_book::{
    BookError, Change, FIELDS, Field, FieldValue, ImportRules, Imports, InventoryForm, Kind, KnownKey,
    MachineBook, Mapping, Place, Revoked, Settings, SyncStep, TrustFile, TrustStore, TrustVerdict, Verified,
    apply_import, json_schema, plan_import, read_inventory,
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
        (
            "[machines.a]\n[machines.a.tunnels]\nx = \"sideways 1\"\n",
            2,
            &["local [ADDRESS:]PORT to HOST:PORT"],
        ),
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
fn an_import_follows_its_inventory_and_keeps_what_was_set_by_hand() {
    let (_folder, home) = home();
    MachineBook::add(&home, "by-hand", &Settings::at("192.0.2.50").unwrap()).unwrap();
    let import = |text: &str, remove_gone: bool| -> Vec<SyncStep> {
        let rows = rows(text, InventoryForm::Csv);
        let mapping = Mapping::new(&["tags=labels".to_owned()], &rows).unwrap();
        MachineBook::edit(&home, |edit| {
            let rules = ImportRules { source: "cloud", tags: &[], adopt: false, without_address: false };
            let steps = plan_import(edit.book(), &Imports::load(&home)?, &mapping, &rows, rules);
            apply_import(edit, &steps, remove_gone)?;
            Ok(steps)
        })
        .inspect(|steps| Imports::note(&home, steps, remove_gone).unwrap())
        .unwrap()
    };
    let first = "Name,Public_IP,User,Labels\nLamp 1,192.0.2.1,keeper,\"coast,old\"\nlamp-2,192.0.2.2,keeper,coast\nby-hand,192.0.2.9,x,\n,1.2.3.4,x,\n";
    let steps = import(first, false);
    assert!(matches!(&steps[0], SyncStep::Add { name, .. } if name == "Lamp-1"));
    assert!(matches!(&steps[2], SyncStep::Foreign { name } if name == "by-hand"));
    assert!(matches!(&steps[3], SyncStep::Bad { row: 4, .. }));
    // The same again changes nothing.
    assert!(
        import(first, false)
            .iter()
            .all(|step| matches!(step, SyncStep::Foreign { .. } | SyncStep::Bad { .. }))
    );
    let by_hand: Vec<Change> =
        ["user=root", "tags+=mine", "tags-=old", "port=2200"].map(|t| Change::parse(t).unwrap()).to_vec();
    MachineBook::edit(&home, |edit| edit.change(Place::Machine("Lamp-1"), &by_hand)).unwrap();
    let second = "name,public_ip,user,labels\nLamp 1,192.0.2.77,warden,\"coast,old,new\"\n";
    let steps = import(second, true);
    let SyncStep::Change { fields, kept, .. } = &steps[0] else { panic!("{steps:?}") };
    assert_eq!(fields[0], (Field::Address, "192.0.2.1".into(), "192.0.2.77".into()));
    assert_eq!(kept[0], (Field::User, "root".into(), "warden".into()));
    assert!(matches!(&steps[1], SyncStep::Gone { name } if name == "lamp-2"));
    let book = MachineBook::load(&home).unwrap();
    let lamp = book.get("Lamp-1").unwrap();
    assert_eq!(lamp.list(Field::Address), ["192.0.2.77"]);
    assert_eq!(
        lamp.list(Field::Tags).iter().map(String::as_str).collect::<BTreeSet<_>>(),
        BTreeSet::from(["coast", "mine", "new"])
    );
    assert_eq!(lamp.get(Field::Port), Some(&FieldValue::Number(2200)));
    assert!(book.get("lamp-2").is_err() && book.get("by-hand").is_ok());
    // The book says what people say, and nothing of imports.
    let text = std::fs::read_to_string(MachineBook::path(&home)).unwrap();
    assert!(!text.contains("cloud") && !text.contains("192.0.2.1\""), "{text}");
    // What was added and not noted, since somebody pulled the plug, is no stranger; what was changed meanwhile is one.
    let third = "name,public_ip,user,labels\nLamp 1,192.0.2.77,warden,\"coast,old,new\"\nlamp-3,192.0.2.3,keeper,coast\n";
    import(third, false);
    Imports::forget(&home, &["lamp-3".into(), "Lamp-1".into()]).unwrap();
    let steps = import(third, false);
    assert!(
        steps.iter().any(|step| matches!(step, SyncStep::Foreign { name } if name == "Lamp-1")),
        "{steps:?}"
    );
    assert!(
        !steps.iter().any(|step| matches!(step, SyncStep::Foreign { name } if name == "lamp-3")),
        "{steps:?}"
    );
    assert_eq!(Imports::load(&home).unwrap().get("lamp-3").unwrap().source, "cloud");
}

#[test]
fn clouds_say_the_same_in_many_ways() {
    let nested = r#"{"Groups": [{"Machines": [{"Id": "m-1", "PublicIpAddress": "192.0.2.1", "Tags": [{"Key": "Name", "Value": "lamp-01"}, {"Key": "role", "Value": "light"}]}]},
        {"Machines": [{"Id": "m-2", "PublicIpAddress": "192.0.2.2", "Tags": []}, {"Id": "m-3"}]}]}"#;
    let read = |at| read_inventory(Path::new("fleet"), nested, InventoryForm::Json, Some(at));
    for at in ["Groups[].Machines[]", "Groups[].Machines"] {
        let rows = read(at).unwrap();
        assert_eq!(rows.len(), 3, "{at}");
        assert_eq!((rows[0]["Tags.Name"].as_str(), rows[0]["Tags"].as_str()), ("lamp-01", "role-light"));
    }
    for at in ["Groups[].Boats[]", "Groups.Machines", "[]"] {
        assert!(read(at).is_err() || read(at).unwrap().iter().all(|row| !row.contains_key("Id")), "{at}");
    }
    // By the name of the tag, or by what tells them apart; without an address none is added.
    let rows = read("Groups[].Machines[]").unwrap();
    let plan = |mapping: &Mapping, without_address| {
        let rules = ImportRules { source: "x", tags: &[], adopt: false, without_address };
        plan_import(&MachineBook::default(), &Imports::default(), mapping, &rows, rules)
    };
    let mapping = Mapping::new(&["name=Id".into()], &rows).unwrap();
    let steps = plan(&mapping, false);
    assert!(
        matches!(&steps[0], SyncStep::Add { settings, .. } if settings.list(Field::Tags) == ["role-light"])
    );
    assert!(
        matches!(&steps[2], SyncStep::Bad { row: 3, why } if why.contains("--without-address")),
        "{steps:?}"
    );
    assert!(matches!(&plan(&mapping, true)[2], SyncStep::Add { .. }));
    // Columns with blanks and in every spelling.
    let sheet = rows_of(
        "Machine name,Public IP address,SSH user,Operating System\nlamp-01,192.0.2.1,keeper,debian\n",
    );
    let mapping = Mapping::new(&[], &sheet).unwrap();
    let fields: Vec<Field> = mapping.fields.iter().map(|(field, _)| *field).collect();
    assert_eq!(
        (mapping.name.as_str(), fields),
        ("Machine name", vec![Field::Address, Field::User, Field::Image])
    );
    assert!(Mapping::new(&["note=serial number".into()], &rows_of("name,Serial Number\na,1\n")).is_ok());
}

fn rows_of(csv: &str) -> Vec<lantern_book::Row> {
    rows(csv, InventoryForm::Csv)
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
    assert!(matches!(store.assess("new", "x:22", &host_key(9)).unwrap(), TrustVerdict::Revoked(_)));
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
