//! Operations on this computer alone: the audit of keys, what is shared of trust, inventories, and the demo's story.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use jiff::{SignedDuration, Timestamp};
use lantern_book::{Home, KeyNote, KeyRing, MachineBook, Mapping, Revoked, Row, TrustStore, Verified};
use lantern_keys::container::{PrivateContainer, Protect, write_private};
use lantern_keys::{Curve, KeyAlgorithm, PrivateKey, PublicKey, RsaBits, SecretString, SystemRandom};
use lantern_operations::demo::{Beat, DemoMachine, Ending, changed_key, enter_into_book, opening, walk};
use lantern_operations::inventory::{Inventory, rows_like};
use lantern_operations::key_audit::{
    AuditError, AuditScope, KeyAudit, Level, Problem, PublicPlace, Standing, audit_keys,
};
use lantern_operations::trust::{Belief, Offer, ShareError, share};

struct Desk {
    folder: tempfile::TempDir,
    home: Home,
}

impl Desk {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        std::fs::create_dir(home.path()).unwrap();
        std::fs::set_permissions(home.path(), std::fs::Permissions::from_mode(0o700)).unwrap();
        Self { folder, home }
    }

    fn key(&self, name: &str, passphrase: Option<&str>, note: KeyNote) -> PrivateKey {
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, name).unwrap();
        let secret = passphrase.map(|text| SecretString::new(text.to_owned()));
        let protect = Protect::with(secret.as_ref());
        KeyRing::new(&self.home).add(name, &key, protect, note, &mut SystemRandom).unwrap();
        key
    }

    fn put(&self, name: &str, content: &[u8], mode: u32) -> PathBuf {
        let path = self.folder.path().join("downloads").join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, content).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
        path
    }

    fn audit(&self, paths: &[&Path]) -> KeyAudit {
        let paths = paths.iter().map(|path| path.to_path_buf()).collect();
        let scope = AuditScope { paths, max_age_days: 365, now: Timestamp::now() };
        audit_keys(&self.home, &scope).unwrap()
    }
}

fn problems<'a>(audit: &'a KeyAudit, name: &str) -> &'a [Problem] {
    let subject = audit.subjects.iter().find(|subject| subject.name.ends_with(name));
    subject.map_or(&[], |subject| &subject.problems)
}

/// The files that are called spare, by name and in order.
fn spares(audit: &KeyAudit) -> Vec<&str> {
    let is_spare = |problem: &Problem| matches!(problem, Problem::Duplicate { is_spare: true, .. });
    let spare = audit.subjects.iter().filter(|subject| subject.problems.iter().any(is_spare));
    let mut names: Vec<&str> = spare.map(|subject| subject.name.rsplit('/').next().unwrap()).collect();
    names.sort_unstable();
    names
}

fn plain(key: &PrivateKey) -> Vec<u8> {
    write_private(key, PrivateContainer::Pkcs8Pem, Protect::default(), &mut SystemRandom).unwrap().to_vec()
}

#[test]
fn the_ring_is_audited_by_what_its_keys_and_the_book_say() {
    let desk = Desk::new();
    let old = KeyNote {
        made: Some(Timestamp::now() - SignedDuration::from_hours(24 * 366)),
        replaced_by: Some("harbour".into()),
        ..KeyNote::default()
    };
    desk.key("harbour", Some("four words and a tide"), KeyNote::default());
    desk.key("spare", None, old);
    let book = "[machines.lamp-01]\naddress = \"192.0.2.7\"\nkey = \"harbour\"\n";
    std::fs::write(desk.home.path().join("machines.toml"), book).unwrap();
    std::fs::write(desk.home.path().join("keys/wreck.key"), "no key at all").unwrap();
    let audit = desk.audit(&[]);
    assert_eq!(audit.looked_at, 3);
    assert_eq!(problems(&audit, "harbour"), []);
    let spare = problems(&audit, "spare");
    let replaced = Problem::Replaced { by: "harbour".into(), in_use: Vec::new() };
    let expected = [Problem::NoPassphrase, Problem::Old { days: 365 }, replaced];
    assert_eq!(spare, expected);
    assert!(spare.iter().map(Problem::level).is_sorted());
    assert!(matches!(problems(&audit, "wreck"), [Problem::Broken { .. }]));
    assert!(audit.subjects.iter().all(|subject| subject.standing == Standing::InRing));
    // A day less than a year is no age yet.
    let scope = AuditScope { paths: vec![], max_age_days: 367, now: Timestamp::now() };
    let audit = audit_keys(&desk.home, &scope).unwrap();
    assert!(!problems(&audit, "spare").contains(&Problem::Old { days: 367 }));
}

#[test]
fn files_outside_the_ring_are_judged_by_content_place_and_mode() {
    let desk = Desk::new();
    let key = PrivateKey::generate(KeyAlgorithm::Ecdsa(Curve::P256), "").unwrap();
    let short = PrivateKey::generate(KeyAlgorithm::Rsa(RsaBits::B2048), "").unwrap();
    desk.put("open.pem", &plain(&key), 0o644);
    desk.put("harbour.pub", &plain(&PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap()), 0o600);
    desk.put("authorized_keys", &plain(&PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap()), 0o600);
    desk.put("short.pem", &plain(&short), 0o600);
    desk.put("notes.txt", b"tide at seven, lamps at eight", 0o644);
    desk.put("cut.pem", &plain(&key)[..90], 0o600);
    let audit = desk.audit(&[&desk.folder.path().join("downloads")]);
    assert_eq!(audit.looked_at, 6);
    assert_eq!(problems(&audit, "open.pem"), [Problem::Exposed { mode: 0o644 }, Problem::NoPassphrase]);
    assert!(problems(&audit, "harbour.pub").contains(&Problem::Misplaced(PublicPlace::PublicFile)));
    assert!(problems(&audit, "authorized_keys").contains(&Problem::Misplaced(PublicPlace::LoginList)));
    assert!(problems(&audit, "short.pem").iter().any(|problem| matches!(problem, Problem::ShortKey { .. })));
    assert_eq!(problems(&audit, "notes.txt"), []);
    assert!(audit.subjects.iter().all(|subject| subject.standing == Standing::InFile));
    let missing =
        AuditScope { paths: vec!["/nowhere/at/all".into()], max_age_days: 1, now: Timestamp::now() };
    assert!(matches!(audit_keys(&desk.home, &missing), Err(AuditError::Path { .. })));
}

/// Whatever is done about duplicates as they are told, a copy is kept that is byte for byte each that goes.
#[test]
fn of_several_copies_only_one_that_equals_another_is_spare() {
    let desk = Desk::new();
    let in_ring = desk.key("harbour", Some("four words and a tide"), KeyNote::default());
    let outside = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    for name in ["a.pem", "b.pem", "c.pem"] {
        desk.put(name, &plain(&outside), 0o600);
    }
    desk.put("harbour-copy.pem", &plain(&in_ring), 0o600);
    let audit = desk.audit(&[&desk.folder.path().join("downloads")]);
    assert_eq!(spares(&audit), ["b.pem", "c.pem"]);
    let told = audit.subjects.iter().flat_map(|subject| &subject.problems);
    let duplicates: Vec<_> = told.filter(|problem| problem.kind() == "duplicate").collect();
    assert_eq!(duplicates.len(), 5);
    assert!(duplicates.iter().all(|problem| problem.level() == Level::Minor));
}

/// Links are not followed: a folder that leads into itself has an end.
#[test]
fn a_folder_that_leads_into_itself_has_an_end() {
    let desk = Desk::new();
    let path = desk.put(
        "deep/down/open.pem",
        &plain(&PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap()),
        0o600,
    );
    let top = desk.folder.path().join("downloads");
    std::os::unix::fs::symlink(&top, path.with_file_name("again")).unwrap();
    assert_eq!(desk.audit(&[&top]).looked_at, 1);
    assert_eq!(desk.audit(&[&path]).looked_at, 1);
}

fn met(desk: &Desk, machine: &str, place: &str) -> PublicKey {
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, machine).unwrap().public().clone();
    TrustStore::accept(&desk.home, machine, place, &key, Verified::Pasted, Timestamp::now()).unwrap();
    key
}

#[test]
fn what_is_shared_is_believed_by_who_signed_it() {
    let (here, there) = (Desk::new(), Desk::new());
    let lamp = met(&here, "lamp-01", "192.0.2.7:22");
    met(&here, "foghorn", "192.0.2.8:22");
    assert_eq!(share(&here.home, &["gull-*".into()], None).unwrap(), None);
    let signer = here.key("harbour", None, KeyNote::default());
    let shared = share(&here.home, &["lamp-*".into()], Some((&signer, "keeper"))).unwrap().unwrap();
    assert_eq!(shared.machines, 1);
    let path = Path::new("coast.trust");
    let fingerprint = signer.public().fingerprint();
    let read = |home: &Home, text: &str, signer: Option<&str>| Offer::read(home, path, text, signer);
    // Whoever has the key believes it; elsewhere it takes a person, or a word beforehand.
    assert_eq!(read(&here.home, &shared.text, None).unwrap().belief, Belief::Own);
    assert_eq!(read(&here.home, &shared.text, Some("harbour")).unwrap().belief, Belief::AsSaid);
    assert_eq!(
        read(&there.home, &shared.text, None).unwrap().belief,
        Belief::Stranger(signer.public().clone())
    );
    let said = read(&there.home, &shared.text, Some(&fingerprint.to_string())).unwrap();
    assert_eq!(said.belief, Belief::AsSaid);
    let other = there.key("pier", None, KeyNote::default()).public().fingerprint();
    let refused = read(&there.home, &shared.text, Some("pier")).unwrap_err();
    assert!(
        matches!(refused, ShareError::OtherSigner { signed: Some(signed), expected } if signed == fingerprint && expected == other)
    );
    assert!(matches!(read(&there.home, &shared.text, Some("quay")), Err(ShareError::Book(_))));
    let tampered = shared.text.replace("lamp-01", "lamp-02");
    assert!(matches!(read(&there.home, &tampered, None), Err(ShareError::Book(_))));
    // Taken in, it is known; taken in again, it changes nothing; and what is known by another key stays.
    let taken = said.take_in(&there.home).unwrap();
    assert_eq!((taken.taken.as_slice(), taken.left.len()), (&["lamp-01".to_owned()][..], 0));
    let store = TrustStore::load(&there.home).unwrap();
    let known = &store.get("lamp-01").unwrap().unwrap().keys[0];
    assert_eq!((&known.key, known.verified, known.by), (&lamp, Verified::Signed, Some(fingerprint)));
    assert!(said.take_in(&there.home).unwrap().taken.is_empty());
    TrustStore::forget(&there.home, "lamp-01").unwrap();
    met(&there, "lamp-01", "192.0.2.7:22");
    assert_eq!(said.take_in(&there.home).unwrap().left, ["lamp-01"]);
    // A signer that was revoked is believed by nobody, whatever is said.
    let (reason, since) = ("stolen at sea".to_owned(), Timestamp::now());
    TrustStore::revoke(&there.home, Revoked { fingerprint, reason, since }).unwrap();
    let refused = read(&there.home, &shared.text, Some(&fingerprint.to_string())).unwrap_err();
    assert!(matches!(refused, ShareError::Revoked { reason } if reason == "stolen at sea"));
    // What nobody signed is told as that, and matches no signer.
    let unsigned = share(&here.home, &[], None).unwrap().unwrap();
    assert_eq!(
        (unsigned.machines, read(&there.home, &unsigned.text, None).unwrap().belief),
        (2, Belief::Unsigned)
    );
    let refused = read(&there.home, &unsigned.text, Some("pier")).unwrap_err();
    assert!(matches!(refused, ShareError::OtherSigner { signed: None, .. }));
}

fn row(pairs: &[(&str, &str)]) -> Row {
    pairs.iter().map(|(column, text)| ((*column).to_owned(), (*text).to_owned())).collect()
}

fn inventory(rows: Vec<Row>) -> Inventory {
    let mapping = Mapping::new(&[], &rows).unwrap();
    Inventory {
        source: "north-cloud".into(),
        mapping,
        rows,
        tags: vec!["cloud".into()],
        adopt: false,
        without_address: false,
    }
}

#[test]
fn an_inventory_changes_what_it_set_and_removes_only_what_was_agreed() {
    let desk = Desk::new();
    let lamp = row(&[("name", "lamp-01"), ("address", "192.0.2.7"), ("state", "running")]);
    let foghorn = row(&[("name", "foghorn"), ("address", "192.0.2.8"), ("state", "stopped")]);
    let bad = row(&[("name", "gull"), ("address", "no such address!"), ("state", "running")]);
    let all = vec![lamp.clone(), foghorn.clone(), bad];
    let running = rows_like(all.clone(), &[("state", "run*")]).unwrap();
    assert_eq!(running.len(), 2);
    assert!(rows_like(all.clone(), &[("sate", "running")]).is_err());
    let first = inventory(all);
    let plan = first.plan(&desk.home).unwrap();
    assert_eq!((plan.steps.len(), plan.bad(), plan.gone()), (3, 1, 0));
    assert_eq!(MachineBook::load(&desk.home).unwrap().iter().count(), 0, "a plan changes nothing");
    first.carry_out(&desk.home, &plan, false).unwrap();
    assert_eq!(MachineBook::load(&desk.home).unwrap().iter().count(), 2);
    // One is gone; it stays until its removal is agreed to.
    let second = inventory(vec![lamp]);
    let plan = second.plan(&desk.home).unwrap();
    assert_eq!(plan.gone(), 1);
    second.carry_out(&desk.home, &plan, false).unwrap();
    assert_eq!(MachineBook::load(&desk.home).unwrap().iter().count(), 2);
    // Another program adds one of the same source between the plan and the yes: nobody agreed to its removal.
    let gull = row(&[("name", "gull-rock"), ("address", "192.0.2.9")]);
    let between = inventory(vec![row(&[("name", "lamp-01"), ("address", "192.0.2.7")]), foghorn, gull]);
    between.carry_out(&desk.home, &between.plan(&desk.home).unwrap(), false).unwrap();
    let carried = second.carry_out(&desk.home, &plan, true).unwrap();
    assert_eq!(carried.gone(), 1);
    let book = MachineBook::load(&desk.home).unwrap();
    let names: Vec<&str> = book.iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["gull-rock", "lamp-01"]);
}

fn fleet() -> Vec<DemoMachine> {
    let names = [
        "lamp-01",
        "lamp-02",
        "foghorn",
        "tide-gauge",
        "signal-hut",
        "chart-room",
        "harbour-gate",
        "pier-lamp",
        "fog-bell",
    ];
    names
        .iter()
        .enumerate()
        .map(|(number, name)| DemoMachine {
            name: (*name).to_owned(),
            address: format!("127.77.0.{}:2222", number + 1).parse().unwrap(),
            is_windows: *name == "chart-room",
            inner_address: matches!(*name, "pier-lamp" | "fog-bell").then(|| format!("10.20.0.{number}")),
            fingerprint: PrivateKey::generate(KeyAlgorithm::Ed25519, name).unwrap().public().fingerprint(),
        })
        .collect()
}

#[test]
fn the_demos_book_can_be_used_and_its_story_names_what_is_there() {
    let desk = Desk::new();
    let machines = fleet();
    enter_into_book(&desk.home, &machines).unwrap();
    let book = MachineBook::load(&desk.home).unwrap();
    book.check().unwrap();
    assert_eq!(book.iter().count(), machines.len());
    assert_eq!(book.gateways("pier-lamp").unwrap(), ["harbour-gate"]);
    assert!(enter_into_book(&desk.home, &machines).is_err(), "they are there already");
    let place = "127.77.0.2:40000";
    let beats: Vec<Beat> =
        [opening(true), walk(&machines), changed_key(place)].into_iter().flatten().collect();
    let runs: Vec<_> = beats
        .iter()
        .filter_map(|beat| match beat {
            Beat::Run(run) | Beat::Window(run) => Some(run),
            Beat::Say(text) => {
                assert!(!text.is_empty());
                None
            }
            Beat::Paste { machine, prepare, carry } => {
                // It comes into the book by its line alone.
                assert!(machines.iter().all(|one| one.name != *machine));
                assert!([prepare, carry].iter().all(|words| words.contains(&(*machine).to_owned())));
                None
            }
            Beat::Fetch { machine, tunnel } => {
                assert!(machines.iter().any(|one| one.name == *machine) && !tunnel.is_empty());
                None
            }
        })
        .collect();
    assert!(runs.len() > 20 && beats.len() > runs.len());
    for run in &runs {
        assert!(run.words.iter().all(|word| !word.is_empty()), "{run:?}");
        // What only sets the scene has to work.
        assert!(run.ending == Ending::Well || !run.words.contains(&"--quiet".to_owned()), "{run:?}");
    }
    for machine in ["lamp-01", "lamp-02", "foghorn", "chart-room", "harbour-gate", "pier-lamp"] {
        let fingerprint =
            machines.iter().find(|other| other.name == machine).unwrap().fingerprint.to_string();
        let trusted = runs
            .iter()
            .any(|run| run.words.contains(&machine.to_owned()) && run.words.contains(&fingerprint));
        assert!(trusted, "{machine} is used and its fingerprint is not told");
    }
    assert!(matches!(runs.last().unwrap().ending, Ending::NotTrusted));
    assert!(
        opening(false)
            .iter()
            .all(|beat| matches!(beat, Beat::Run(run) if run.words.contains(&"--quiet".to_owned())))
    );
}
