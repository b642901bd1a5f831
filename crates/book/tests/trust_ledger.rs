//! The trust store as a file to which records are added: whoever reads it, however it was written, reads the same.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::MetadataExt;

use jiff::{Timestamp, ToSpan};
use lantern_book::{
    BookError, Home, Kept, KnownCertificate, KnownKey, Revoked, TrustRecord, TrustStore, TrustVerdict,
    Verified,
};
use lantern_keys::{Fingerprint, PublicKey};
use proptest::prelude::*;
use support::home;

const NOW: Timestamp = Timestamp::UNIX_EPOCH;

fn key(number: u32) -> PublicKey {
    // Any 32 bytes pass for a key that is only remembered.
    let mut bytes = [7; 32];
    bytes[..4].copy_from_slice(&number.to_be_bytes());
    PublicKey::Ed25519(bytes)
}

fn known(number: u32) -> KnownKey {
    KnownKey::new(key(number), Verified::Pasted, NOW)
}

fn text(home: &Home) -> String {
    fs::read_to_string(home.file("trust.toml")).unwrap_or_default()
}

fn stranger(home: &Home) -> Home {
    Home::new(home.path().to_owned())
}

fn records(home: &Home) -> BTreeMap<String, TrustRecord> {
    TrustStore::load(home).unwrap().records().unwrap()
}

/// The names and keys in a text, as the TOML library reads them and the form is defined: the last of a machine counts.
fn by_the_library(text: &str) -> BTreeMap<String, Vec<String>> {
    let table: toml::Table = toml::from_str(text).unwrap();
    let machines = table.get("machine").and_then(|machines| machines.as_array()).cloned().unwrap_or_default();
    let word =
        |value: &toml::Value, field: &str| value.get(field).and_then(|v| v.as_str()).unwrap().to_owned();
    let keys = |machine: &toml::Value| {
        let keys = machine.get("keys").and_then(|keys| keys.as_array()).cloned().unwrap_or_default();
        keys.iter().map(|key| word(key, "key")).collect()
    };
    machines.iter().map(|machine| (word(machine, "name"), keys(machine))).collect()
}

fn lines_of(records: &BTreeMap<String, TrustRecord>) -> BTreeMap<String, Vec<String>> {
    let line = |known: &KnownKey| lantern_keys::public_line::format(&known.key, "").trim().to_owned();
    records.iter().map(|(name, record)| (name.clone(), record.keys.iter().map(line).collect())).collect()
}

#[derive(Debug, Clone)]
enum Step {
    Accept(u8, Vec<u32>),
    Add(u8, u32),
    Decide(u8, u32),
    Seen(u8, u32, u8),
    Certificate(u8),
    Forget(u8),
    Rename(u8, u8, bool),
    Revoke(u32, String),
    Unrevoke(u32),
    TakeIn(u8, u32),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let machine = 0..6u8;
    let key = 0..12u32;
    let reason = prop_oneof![
        Just("lost at sea".to_owned()),
        Just("a\nline \"\"\" and '''".to_owned()),
        "[ -~]{0,20}",
    ];
    let step = prop_oneof![
        4 => (machine.clone(), prop::collection::vec(key.clone(), 0..4)).prop_map(|(m, k)| Step::Accept(m, k)),
        3 => (machine.clone(), key.clone()).prop_map(|(m, k)| Step::Add(m, k)),
        3 => (machine.clone(), key.clone()).prop_map(|(m, k)| Step::Decide(m, k)),
        3 => (machine.clone(), key.clone(), 0..9u8).prop_map(|(m, k, d)| Step::Seen(m, k, d)),
        1 => machine.clone().prop_map(Step::Certificate),
        1 => machine.clone().prop_map(Step::Forget),
        1 => (machine.clone(), machine.clone(), any::<bool>()).prop_map(|(a, b, keep)| Step::Rename(a, b, keep)),
        1 => (key.clone(), reason).prop_map(|(k, reason)| Step::Revoke(k, reason)),
        1 => key.clone().prop_map(Step::Unrevoke),
        1 => (machine, key).prop_map(|(m, k)| Step::TakeIn(m, k)),
    ];
    prop::collection::vec(step, 1..40)
}

fn name(machine: u8) -> String {
    match machine {
        5 => "10.77.0.22:22 via harbour-gate".to_owned(),
        machine => format!("lamp-0{machine}"),
    }
}

fn take(home: &Home, step: &Step) {
    let place = |machine: &u8| format!("192.0.2.{machine}:22");
    match step {
        Step::Accept(machine, keys) => {
            let keys: Vec<KnownKey> = keys.iter().map(|number| known(*number)).collect();
            TrustStore::accept_all(home, &name(*machine), &place(machine), &keys).unwrap();
        }
        Step::Add(machine, number) => {
            TrustStore::add_key(home, &name(*machine), &place(machine), &known(*number)).unwrap();
        }
        Step::Decide(machine, number) => {
            let before = TrustStore::load(home).unwrap().keys(&name(*machine)).unwrap();
            let decided = [known(*number)];
            TrustStore::keep_decided(home, &name(*machine), &place(machine), &before, &decided).unwrap();
        }
        Step::Seen(machine, number, day) => {
            let at = NOW + (i64::from(*day) * 24).hours();
            TrustStore::note_seen(home, &name(*machine), &place(day), &key(*number).into(), at).unwrap();
        }
        Step::Certificate(machine) => {
            let certificate = KnownCertificate {
                der: vec![0x30, 0, *machine],
                verified: Verified::Pasted,
                first_seen: NOW,
                last_seen: NOW,
            };
            TrustStore::accept_certificate(home, &name(*machine), None, certificate).unwrap();
        }
        Step::Forget(machine) => drop(TrustStore::forget(home, &name(*machine)).unwrap()),
        Step::Rename(old, new, keep) if old != new => {
            TrustStore::rename(home, &[(&name(*old), &name(*new))], *keep).unwrap();
        }
        Step::Rename(..) => {}
        Step::Revoke(number, reason) => {
            let fingerprint = key(*number).fingerprint();
            TrustStore::revoke(home, Revoked { fingerprint, reason: reason.clone(), since: NOW }).unwrap();
        }
        Step::Unrevoke(number) => {
            TrustStore::unrevoke(home, &key(*number).fingerprint()).unwrap();
        }
        Step::TakeIn(machine, number) => {
            let record = TrustRecord { keys: vec![known(*number)], ..TrustRecord::default() };
            TrustStore::take_in(home, &BTreeMap::from([(name(*machine), record)]), &[]).unwrap();
        }
    }
}

fn holders(
    records: &BTreeMap<String, TrustRecord>,
    but: &str,
    is_wanted: impl Fn(&TrustRecord) -> bool,
) -> Vec<String> {
    let others = records.iter().filter(|(name, record)| *name != but && is_wanted(record));
    others.map(|(name, _)| name.clone()).take(8).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Two programs change the store by turns, each with what it remembers of it; after each change they read the same as somebody who reads all of
    /// it, and as the TOML library does.
    #[test]
    fn whoever_reads_reads_the_same(steps in steps()) {
        let (_folder, one) = home();
        let other = stranger(&one);
        for (turn, step) in steps.iter().enumerate() {
            take(if turn % 2 == 0 { &one } else { &other }, step);
            let there = records(&stranger(&one));
            prop_assert_eq!(&records(&one), &there);
            prop_assert_eq!(&records(&other), &there);
            prop_assert_eq!(by_the_library(&text(&one)), lines_of(&there));
            let revoked = TrustStore::load(&one).unwrap().revoked().to_vec();
            let stranger = TrustStore::load(&stranger(&one)).unwrap();
            prop_assert_eq!(&revoked[..], stranger.revoked());
        }
        // The index finds what a look at every record finds.
        let (store, records) = (TrustStore::load(&other).unwrap(), records(&one));
        for number in 0..12 {
            let (key, place) = (key(number), format!("192.0.2.{number}:22"));
            if store.is_revoked(&key.fingerprint()).is_some() {
                continue;
            }
            let has_key = |record: &TrustRecord| record.keys.iter().any(|known| known.key == key);
            let was_here = |record: &TrustRecord| record.addresses.contains(&place);
            let expected = TrustVerdict::FirstContact {
                same_key: holders(&records, "new", has_key),
                same_address: holders(&records, "new", |record| was_here(record) && !has_key(record)),
            };
            prop_assert_eq!(store.assess("new", &place, &key.clone().into()).unwrap(), expected);
            let latest = |record: &TrustRecord| record.addresses.last() == Some(&place);
            let at = holders(&records, "", latest).first().cloned();
            prop_assert_eq!(store.machine_at(&place).unwrap(), at);
        }
    }

    /// A file that ends anywhere: an error with a line, or no other key of any machine than was written.
    #[test]
    fn a_cut_file_has_no_other_keys(cut in any::<prop::sample::Index>(), steps in steps()) {
        let (_folder, home) = home();
        steps.iter().for_each(|step| take(&home, step));
        let whole = text(&home);
        let written: BTreeSet<&str> = whole.lines().filter_map(|line| line.strip_prefix("key = \"")).collect();
        if whole.is_empty() {
            return Ok(());
        }
        fs::write(home.file("trust.toml"), &whole.as_bytes()[..cut.index(whole.len())]).unwrap();
        match TrustStore::load(&home).and_then(|store| store.records()) {
            Ok(records) => {
                for line in lines_of(&records).into_values().flatten() {
                    prop_assert!(written.contains(format!("{line}\"").as_str()), "{}", line);
                }
            }
            Err(BookError::Syntax { line, .. }) => prop_assert!(line <= whole.lines().count() + 1),
            Err(error) => prop_assert!(matches!(error, BookError::Io { .. }), "{}", error),
        }
    }
}

const RECORD: &str = "[[machine]]\nname = \"lamp-01\"\naddresses = [\"192.0.2.1:22\"]\n\n[[machine.keys]]\n";

/// However a person writes it, or an older version did: the same is read, and the next change loses nothing.
#[test]
fn other_ways_to_write_it_are_read() {
    let line = lantern_keys::public_line::format(&key(1), "");
    let fields =
        format!("key = \"{line}\"\nverified = \"pasted\"\nfirst-seen = \"{NOW}\"\nlast-seen = \"{NOW}\"\n");
    let ours = format!("{RECORD}{fields}");
    let older =
        format!("[machines.lamp-01]\naddresses = [\"192.0.2.1:22\"]\n[[machines.lamp-01.keys]]\n{fields}");
    let inline = fields.trim_end().replace('\n', ", ");
    let forms = [
        ours.clone(),
        format!("# A note.\n{ours}# Another.\n# ---\n"),
        older,
        ours.replace("[[machine", "  [[machine"),
        ours.replace("addresses = [\"192.0.2.1:22\"]", "addresses = [\n  '192.0.2.1:22',\n]"),
        ours.replace("name = \"lamp-01\"", "name = '''lamp-01'''"),
        ours.replace("name = \"lamp-01\"", "name = \"lamp\\u002d01\""),
        ours.replace("name = \"lamp-01\"\n", "")
            .replace("[\"192.0.2.1:22\"]\n", "[\"192.0.2.1:22\"]\nname = \"lamp-01\"\n"),
        format!(
            "machine = [{{ name = \"lamp-01\", addresses = [\"192.0.2.1:22\"], keys = [{{ {inline} }}] }}]\n"
        ),
        format!("{ours}\r\n"),
        ours.replace("\"]\n", "\"] # at sea\n").replace("\"\nverified", "\" # red\nverified"),
        // The later one counts.
        format!("{}# ---\n{ours}# ---\n", ours.replace("192.0.2.1", "198.51.100.9")),
        format!(
            "{}{ours}",
            ours.replace("[[machine]]", "[[ machine ]]").replace("192.0.2.1", "198.51.100.9")
        ),
    ];
    let expected = TrustRecord {
        keys: vec![known(1)],
        addresses: vec!["192.0.2.1:22".into()],
        ..TrustRecord::default()
    };
    for form in forms {
        let (_folder, home) = home();
        fs::create_dir_all(home.path()).unwrap();
        fs::write(home.file("trust.toml"), &form).unwrap();
        assert_eq!(records(&home), BTreeMap::from([("lamp-01".into(), expected.clone())]), "{form}");
        assert_eq!(
            TrustStore::load(&home).unwrap().machine_at("192.0.2.1:22").unwrap().as_deref(),
            Some("lamp-01")
        );
        TrustStore::accept(&home, "lamp-02", "192.0.2.2:22", &key(2), Verified::Pasted, NOW).unwrap();
        let after = records(&stranger(&home));
        assert_eq!(after.get("lamp-01"), Some(&expected), "{form}");
        assert_eq!(after.len(), 2, "{form}");
        let before = text(&home);
        TrustStore::accept(&home, "lamp-03", "192.0.2.3:22", &key(3), Verified::Pasted, NOW).unwrap();
        assert!(text(&home).starts_with(&before), "{form}");
    }
}

#[test]
fn what_is_wrong_is_told_with_its_line_and_only_of_the_machine_that_it_is_about() {
    let (_folder, home) = home();
    for machine in 1..=3 {
        let place = format!("192.0.2.{machine}:22");
        TrustStore::accept(&home, &name(machine), &place, &key(machine.into()), Verified::Pasted, NOW)
            .unwrap();
    }
    let good = text(&home);
    let spoiled =
        good.replacen("verified = \"pasted\"", "verified = \"guessed\"", 2).replacen("guessed", "pasted", 1);
    let line = spoiled.lines().position(|line| line.contains("guessed")).unwrap() + 1;
    fs::write(home.file("trust.toml"), &spoiled).unwrap();
    let store = TrustStore::load(&home).unwrap();
    assert!(store.get("lamp-01").unwrap().is_some() && store.get("lamp-03").unwrap().is_some());
    for error in [store.get("lamp-02").unwrap_err(), store.records().unwrap_err()] {
        assert!(matches!(&error, BookError::Syntax { line: at, .. } if *at == line), "{error}");
    }
    TrustStore::accept(&home, "lamp-02", "192.0.2.2:22", &key(9), Verified::Pasted, NOW).unwrap_err();
    assert_eq!(text(&home), spoiled);
    // A last record that is not whole is told as that.
    fs::write(home.file("trust.toml"), format!("{good}{RECORD}key = \"ssh-ed25519 AAA")).unwrap();
    let error = TrustStore::load(&home).unwrap_err().to_string();
    assert!(error.contains(&format!("line {}: a record was cut off", good.lines().count() + 1)), "{error}");
    // A revocation that cannot be read refuses everything: the key that it is about might be any.
    fs::write(home.file("trust.toml"), format!("{good}[[revoked]]\nfingerprint = \"SHA256:x\"\n# ---\n"))
        .unwrap();
    let error = TrustStore::load(&home).unwrap_err();
    assert!(matches!(&error, BookError::Syntax { line, .. } if *line > good.lines().count()), "{error}");
}

/// First contacts with many machines write each a record and nothing else; so do visits on later days, but for a rewriting when most of what is there
/// is out of date.
#[test]
fn many_first_contacts_write_as_much_as_there_is_to_say() {
    let (_folder, home) = home();
    let mut written = 0;
    let mut last = (0, 0);
    let mut count = |home: &Home| {
        let now = fs::metadata(home.file("trust.toml")).unwrap();
        written += if now.ino() == last.0 { now.len() - last.1 } else { now.len() };
        last = (now.ino(), now.len());
    };
    let machines = 200u32;
    for machine in 0..machines {
        let place = format!("192.0.2.1:{machine}");
        let decided = [known(machine)];
        let kept =
            TrustStore::keep_decided(&home, &format!("lamp-{machine}"), &place, &[], &decided).unwrap();
        assert_eq!(kept, Kept::Yes);
        count(&home);
    }
    for day in 1..=6 {
        for machine in 0..machines {
            let (name, place) = (format!("lamp-{machine}"), format!("192.0.2.1:{machine}"));
            let at = NOW + (48 * day).hours();
            TrustStore::note_seen(&home, &name, &place, &key(machine).into(), at).unwrap();
            count(&home);
        }
    }
    let one = text(&stranger(&home)).len() as u64 / 200 / 2;
    let changes = u64::from(machines) * 7;
    assert!(written < changes * one * 6, "{written} bytes for {changes} records of about {one}");
    assert!(text(&home).len() as u64 <= u64::from(machines) * one * 8);
    assert_eq!(records(&stranger(&home)).len(), machines as usize);
}

/// A file that somebody else put in place of ours, of whatever length, is seen as another.
#[test]
fn a_file_in_place_of_the_other_is_read_anew() {
    let (_folder, home) = home();
    TrustStore::accept(&home, "lamp-01", "192.0.2.1:22", &key(1), Verified::Pasted, NOW).unwrap();
    let first = text(&home);
    assert_eq!(records(&home).len(), 1);
    let file = home.file("trust.toml");
    let other = first.replace("lamp-01", "lamp-09");
    fs::write(&file, format!("{other}{first}")).unwrap();
    assert_eq!(records(&home).keys().collect::<Vec<_>>(), ["lamp-01", "lamp-09"]);
    fs::write(&file, &other).unwrap();
    assert_eq!(records(&home).keys().collect::<Vec<_>>(), ["lamp-09"]);
    fs::remove_file(&file).unwrap();
    assert_eq!(records(&home).len(), 0);
    TrustStore::revoke(
        &home,
        Revoked { fingerprint: Fingerprint::of_blob(b"x"), reason: "gone".into(), since: NOW },
    )
    .unwrap();
    assert_eq!(TrustStore::load(&stranger(&home)).unwrap().revoked().len(), 1);
}

/// Many who share a home, some of whom write: nobody waits for who waits for him, also while the file is in a form that is read with the lock.
#[test]
fn readers_and_writers_of_one_process_do_not_wait_for_each_other_in_a_circle() {
    let (_folder, home) = home();
    fs::create_dir_all(home.path()).unwrap();
    for round in 0..10u32 {
        fs::write(
            home.file("trust.toml"),
            format!("# As before.\n{RECORD}").replace("\n[[machine.keys]]\n", ""),
        )
        .unwrap();
        std::thread::scope(|scope| {
            for worker in 0..4u32 {
                let home = &home;
                scope.spawn(move || {
                    for turn in 0..5 {
                        let name = format!("lamp-{worker}-{turn}");
                        TrustStore::accept(home, &name, "192.0.2.1:22", &key(round), Verified::Pasted, NOW)
                            .unwrap();
                    }
                });
                scope.spawn(move || (0..20).for_each(|_| drop(TrustStore::load(home).unwrap())));
            }
        });
        assert_eq!(records(&home).len(), 21);
    }
}
