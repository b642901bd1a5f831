//! Inventories against the book: what is read, what changes, and what stays as it was set by hand.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::collections::BTreeSet;
use std::path::Path;

use lantern_book::{
    Change, Field, FieldValue, ImportRules, Imports, InventoryForm, MachineBook, Mapping, Place, Settings,
    SyncStep, apply_import, note_import, plan_import, read_inventory,
};
use support::home;

fn rows(text: &str, form: InventoryForm) -> Vec<lantern_book::Row> {
    read_inventory(Path::new("inventory"), text, form, None).unwrap()
}

fn rows_of(csv: &str) -> Vec<lantern_book::Row> {
    rows(csv, InventoryForm::Csv)
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
        .inspect(|steps| note_import(&home, steps, remove_gone).unwrap())
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
