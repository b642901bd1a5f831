//! What holds for any settings, any selection, any export.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::collections::BTreeSet;
use std::path::Path;

use lantern_book::{
    Change, FIELDS, Field, ImportRules, Imports, InventoryForm, Kind, MachineBook, Mapping, Place, Settings,
    apply_import, export_rows, glob, plan_import, read_inventory, select, write_inventory,
};
use proptest::prelude::*;
use support::{book, home};

/// A value that a field of this name allows.
fn value_of(field: Field) -> BoxedStrategy<String> {
    match field.spec().kind {
        Kind::Number(least, most) => (least..=most).prop_map(|number| number.to_string()).boxed(),
        Kind::Flag => any::<bool>().prop_map(|flag| flag.to_string()).boxed(),
        Kind::Choice(words) => proptest::sample::select(words.to_vec()).prop_map(str::to_owned).boxed(),
        Kind::FlagOr(words) => {
            let all = [&["true", "false"], words].concat();
            proptest::sample::select(all).prop_map(str::to_owned).boxed()
        }
        Kind::OneOrMany(_) | Kind::Set(_) => "[a-z]{1,5}(,[0-9a-f]{6})?".boxed(),
        Kind::Map(_) if field == Field::Tunnels => "[a-z]{1,4}=dynamic 1080".boxed(),
        Kind::Map(_) => "[A-Z]{1,4}=[a-z0-9 ]{0,4}[a-z]".boxed(),
        Kind::Text(_) => Just(field.spec().example.to_owned()).boxed(),
    }
}

fn settings() -> impl Strategy<Value = Settings> {
    let fields: Vec<Field> = FIELDS
        .iter()
        .map(|spec| spec.field)
        .filter(|f| !matches!(f, Field::Profiles | Field::Gateway))
        .collect();
    let pair = proptest::sample::select(fields)
        .prop_flat_map(|field| value_of(field).prop_map(move |value| (field, value)));
    prop::collection::vec(pair, 0..8).prop_map(|pairs| {
        pairs
            .into_iter()
            .fold(Settings::new(), |settings, (field, value)| settings.with_text(field, &value).unwrap())
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn whatever_is_written_is_read_back_and_changed_back(before in settings(), after in settings()) {
        let (_folder, home) = home();
        MachineBook::add(&home, "lamp", &before).unwrap();
        prop_assert_eq!(&MachineBook::load(&home).unwrap().get("lamp").unwrap().clone(), &before);
        MachineBook::edit(&home, |edit| edit.put(Place::Machine("lamp"), after.clone())).unwrap();
        prop_assert_eq!(&MachineBook::load(&home).unwrap().get("lamp").unwrap().clone(), &after);
        MachineBook::edit(&home, |edit| edit.put(Place::Machine("lamp"), before.clone())).unwrap();
        prop_assert_eq!(&MachineBook::load(&home).unwrap().get("lamp").unwrap().clone(), &before);
    }

    #[test]
    fn an_export_is_imported_as_the_same_machines(machines in prop::collection::btree_map("[a-z]{1,6}", settings(), 1..4), form in 0..4usize) {
        let form = [InventoryForm::Csv, InventoryForm::Json, InventoryForm::Yaml, InventoryForm::Toml][form];
        let rows = export_rows(machines.iter().map(|(name, settings)| (name.as_str(), settings)));
        let text = write_inventory(&rows, form).unwrap();
        let at = if form == InventoryForm::Toml { Some("machine") } else { None };
        let read = read_inventory(Path::new("x"), &text, form, at).unwrap();
        let (_folder, home) = home();
        let mapping = Mapping::new(&[], &read).unwrap();
        let rules = ImportRules { source: "x", tags: &[], adopt: false, without_address: true };
        let steps = plan_import(&MachineBook::load(&home).unwrap(), &Imports::default(), &mapping, &read, rules);
        MachineBook::edit(&home, |edit| apply_import(edit, &steps, false)).unwrap();
        let book = MachineBook::load(&home).unwrap();
        for (name, settings) in &machines {
            prop_assert_eq!(book.get(name).unwrap(), settings);
        }
    }

    #[test]
    fn the_nearer_word_holds_and_sets_are_joined(machine in settings(), profile in settings(), defaults in settings()) {
        let (_folder, home) = home();
        let mut profile = profile;
        profile.apply(&Change::Unset(Field::Note)).unwrap();
        let mut defaults = defaults;
        defaults.apply(&Change::Unset(Field::Note)).unwrap();
        MachineBook::edit(&home, |edit| {
            edit.put(Place::Defaults, defaults.clone())?;
            edit.add_profile("p", &profile)?;
            edit.add_machine("m", &machine.clone().with_text(Field::Profiles, "p")?)
        }).unwrap();
        let book = MachineBook::load(&home).unwrap();
        let effective = book.effective("m").unwrap();
        for spec in FIELDS.iter().filter(|spec| spec.field != Field::Profiles) {
            let layers = [machine.get(spec.field), profile.get(spec.field), defaults.get(spec.field)];
            let met = effective.part(spec.field).map(|part| part.value.clone().into_owned());
            match spec.kind {
                Kind::Set(_) => {
                    let all: BTreeSet<&String> = [&machine, &profile, &defaults].into_iter().flat_map(|s| s.list(spec.field)).collect();
                    prop_assert_eq!(effective.list(spec.field).iter().collect::<BTreeSet<_>>(), all);
                }
                Kind::Map(_) => {
                    for (layer, under) in [(&machine, true), (&profile, machine.map(spec.field).is_none())] {
                        for (name, value) in layer.map(spec.field).into_iter().flatten().filter(|_| under) {
                            prop_assert_eq!(&effective.map(spec.field).unwrap()[name], value);
                        }
                    }
                }
                _ => prop_assert_eq!(met.as_ref(), layers.into_iter().flatten().next()),
            }
        }
    }

    #[test]
    fn a_selection_is_what_its_words_say(names in prop::collection::btree_set("[ab]{1,3}", 1..8), wanted in "[ab*?]{1,3}", out in "[ab*]{1,3}") {
        let text: String = names.iter().map(|name| format!("[machines.{name}]\naddress = \"192.0.2.1\"\ntags = [\"{}\"]\n", &name[..1])).collect();
        let book = book(&text);
        let expected: Vec<String> = names.iter().filter(|name| glob(&wanted, name) && !glob(&out, name)).cloned().collect();
        match select(&book, &[&wanted], &[&out]) {
            Ok(met) => prop_assert_eq!(met, expected),
            Err(_) => prop_assert!(expected.is_empty() || !names.iter().any(|name| glob(&out, name))),
        }
        let none: [&str; 0] = [];
        let others: Vec<String> = names.iter().filter(|name| !glob(&out, name)).cloned().collect();
        match select(&book, &none, &[&out]) {
            Ok(met) => prop_assert_eq!(met, others),
            Err(_) => prop_assert!(others.is_empty() || others.len() == names.len()),
        }
        prop_assert!(select(&book, &["*,!a"], &none).is_err());
        let tagged = select(&book, &["@a"], &none);
        let with_a: Vec<String> = names.iter().filter(|name| name.starts_with('a')).cloned().collect();
        prop_assert_eq!(tagged.unwrap_or_default(), with_a);
        // Globs against the plain definition.
        let slow = |pattern: &str, name: &str| {
            fn fits(p: &[u8], n: &[u8]) -> bool {
                match (p.first(), n.first()) {
                    (None, None) => true,
                    (Some(b'*'), _) => fits(&p[1..], n) || !n.is_empty() && fits(p, &n[1..]),
                    (Some(b'?'), Some(_)) => fits(&p[1..], &n[1..]),
                    (Some(a), Some(b)) if a == b => fits(&p[1..], &n[1..]),
                    _ => false,
                }
            }
            fits(pattern.as_bytes(), name.as_bytes())
        };
        for name in &names {
            prop_assert_eq!(glob(&wanted, name), slow(&wanted, name));
        }
    }
}
