//! What the audit of keys advises never costs a key: whatever is called spare has its equal elsewhere, by whatever paths one comes to it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::HashMap;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing};
use lantern_keys::container::{Found, PrivateContainer, Protect, openssh_key_v1, read, write_private};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, SecretString, SystemRandom, public_line};
use lantern_operations::key_audit::{AuditScope, KeyAudit, Problem, Unseen, audit_keys};
use proptest::prelude::*;

static KEYS: LazyLock<Vec<PrivateKey>> = LazyLock::new(|| {
    (0..3).map(|_| PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper@foghorn").unwrap()).collect()
});
/// The same bytes each time, so that copies are equal.
static BYTES: LazyLock<HashMap<(usize, u8), Vec<u8>>> = LazyLock::new(|| {
    let secret = SecretString::new("four words and a tide".into());
    let mut bytes = HashMap::new();
    for (at, key) in KEYS.iter().enumerate() {
        let mut closed = Protect::with(Some(&secret));
        closed.openssh = openssh_key_v1::Settings { rounds: 1, ..Default::default() };
        let write =
            |container, protect| write_private(key, container, protect, &mut SystemRandom).unwrap().to_vec();
        let plain = write(PrivateContainer::OpensshKeyV1, Protect::default());
        let other = &KEYS[(at + 1) % KEYS.len()];
        let line = public_line::format(other.public(), "somebody else");
        bytes.insert((at, 0), plain.clone());
        bytes.insert((at, 1), write(PrivateContainer::Pkcs8Pem, Protect::default()));
        bytes.insert((at, 2), write(PrivateContainer::OpensshKeyV1, closed));
        // A second thing in it, a line of text, and damage of two kinds.
        bytes.insert((at, 3), [&plain, line.as_bytes()].concat());
        bytes.insert((at, 4), [b"password of the panel: lamp\n".as_slice(), &plain].concat());
        bytes.insert((at, 5), plain[..plain.len() - 36].to_vec());
        bytes.insert((at, 6), plain.iter().map(|byte| if *byte == b'A' { b'B' } else { *byte }).collect());
    }
    bytes
});

struct Desk {
    folder: tempfile::TempDir,
    home: Home,
}

impl Desk {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        fs::create_dir_all(folder.path().join("downloads/deep")).unwrap();
        Self { folder, home }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn add(&self, name: &str, key: &PrivateKey) {
        let ring = KeyRing::new(&self.home);
        ring.add(name, key, Protect::default(), KeyNote::default(), &mut SystemRandom).unwrap();
    }

    fn audit(&self, paths: &[&str]) -> KeyAudit {
        let paths = paths.iter().map(|path| self.path(path)).collect();
        audit_keys(&self.home, &AuditScope { paths, max_age_days: 365, now: Timestamp::now() }).unwrap()
    }
}

fn kinds(audit: &KeyAudit, name: &str) -> Vec<&'static str> {
    let subject = audit.subjects.iter().find(|subject| subject.name.ends_with(name));
    subject.map(|subject| subject.problems.iter().map(Problem::kind).collect()).unwrap_or_default()
}

/// Every private key in a file, whole, by its public half.
fn keys_in(path: &Path) -> Vec<PublicKey> {
    let found = read(&fs::read(path).unwrap_or_default()).unwrap_or_default();
    let public = |found| match found {
        Ok(Found::Private(sealed)) => Some(sealed),
        _ => None,
    };
    found.into_iter().filter_map(public).filter_map(|sealed| sealed.public().cloned()).collect()
}

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        match entry.file_type().unwrap() {
            kind if kind.is_dir() => files.extend(files_below(&entry.path())),
            kind if kind.is_file() => files.push(entry.path()),
            _ => {}
        }
    }
    files
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Copies, damaged ones, closed ones, with other things in them, under several names and paths: after everything that is called
    /// spare is gone, each content that was there is there still.
    #[test]
    fn what_is_advised_to_be_removed_has_its_equal(
        files in prop::collection::vec((0usize..3, 0u8..7, 0u8..4), 1..10),
        in_ring in prop::collection::vec(any::<bool>(), 3),
        paths in prop::sample::subsequence(vec!["downloads", "downloads/.", "downloads/deep", "same", "ring", "home/keys"], 1..6),
    ) {
        let desk = Desk::new();
        for (at, key) in KEYS.iter().enumerate().filter(|(at, _)| in_ring[*at]) {
            desk.add(&format!("key-{at}"), key);
        }
        fs::create_dir_all(desk.path("home/keys")).unwrap();
        symlink(desk.path("downloads"), desk.path("same")).unwrap();
        symlink(desk.path("home/keys"), desk.path("ring")).unwrap();
        for (number, (key, form, place)) in files.iter().enumerate() {
            let path = desk.path(&format!("downloads/{}{number}.pem", if *place == 1 { "deep/" } else { "" }));
            match place {
                // Another name of the first file.
                2 if number > 0 && desk.path("downloads/0.pem").exists() => {
                    fs::hard_link(desk.path("downloads/0.pem"), path).unwrap();
                }
                3 => symlink(desk.path("downloads/0.pem"), path).unwrap(),
                _ => fs::write(path, &BYTES[&(*key, *form)]).unwrap(),
            }
        }
        let before = files_below(desk.folder.path());
        let contents: Vec<Vec<u8>> = before.iter().map(|path| fs::read(path).unwrap()).collect();
        let audit = desk.audit(&paths);
        let mut names: Vec<_> = audit.subjects.iter().map(|subject| fs::canonicalize(&subject.path).unwrap()).collect();
        let count = names.len();
        names.sort();
        names.dedup();
        prop_assert_eq!(names.len(), count, "a file is told twice");
        for subject in &audit.subjects {
            let spare = subject.problems.iter().any(|problem| matches!(problem, Problem::Duplicate { is_spare: true, .. }));
            // What holds anything else, or is damaged, is never spare; nor is what the ring has.
            if spare {
                prop_assert!(subject.is_alone && !subject.path.starts_with(desk.path("home")));
                fs::remove_file(&subject.path).unwrap();
            }
        }
        let left: Vec<Vec<u8>> = files_below(desk.folder.path()).iter().map(|path| fs::read(path).unwrap()).collect();
        for content in contents {
            prop_assert!(left.contains(&content), "a content is gone");
        }
    }
}

#[test]
fn the_rings_own_files_are_no_duplicates_whatever_path_leads_to_them() {
    let desk = Desk::new();
    desk.add("harbour", &KEYS[0]);
    symlink(desk.path("home/keys"), desk.path("downloads/link")).unwrap();
    symlink(desk.path("home"), desk.path("other-home")).unwrap();
    for paths in
        [&["home"][..], &["other-home"], &["downloads/link"], &["home", "other-home/keys/harbour.key"]]
    {
        let audit = desk.audit(paths);
        assert_eq!(kinds(&audit, "harbour"), ["no-passphrase", "unused"], "{paths:?}");
        assert_eq!(audit.subjects.len(), 1, "{paths:?}");
    }
}

#[test]
fn what_is_not_looked_at_is_told_and_not_counted() {
    let desk = Desk::new();
    fs::write(desk.path("downloads/large.img"), vec![b'x'; 1024 * 1024 + 1]).unwrap();
    fs::write(desk.path("downloads/notes.txt"), "tide at seven").unwrap();
    symlink("/nowhere", desk.path("downloads/link")).unwrap();
    let _socket = std::os::unix::net::UnixListener::bind(desk.path("downloads/socket")).unwrap();
    let audit = desk.audit(&["downloads", "downloads/large.img"]);
    assert_eq!(audit.looked_at, 1);
    let mut unseen: Vec<String> = audit
        .unseen
        .iter()
        .map(|(path, why)| {
            let kind = match why {
                Unseen::TooLarge => "large",
                Unseen::NotAFile(kind) => kind,
                Unseen::Refused(_) => "refused",
            };
            format!("{}: {kind}", path.file_name().unwrap().display())
        })
        .collect();
    unseen.sort();
    assert_eq!(unseen, ["large.img: large", "large.img: large", "link: a link", "socket: a socket"]);
}

#[test]
fn keys_are_found_in_every_dress_and_called_by_their_names() {
    let desk = Desk::new();
    let plain = String::from_utf8(BYTES[&(0, 0)].clone()).unwrap();
    let put = |name: &str, content: &[u8]| fs::write(desk.path("downloads").join(name), content).unwrap();
    put("cr.pem", plain.replace('\n', "\r").as_bytes());
    put("line.pem", plain.replace('\n', " ").as_bytes());
    put("env.json", serde_json::json!({ "key": plain }).to_string().as_bytes());
    put("open.jwk", br#"{"kty":"OKP","crv":"Ed25519","x":"AA","d":"AA"}"#);
    put("closed.p12", b"-----BEGIN PKCS12-----\nAAAA\n-----END PKCS12-----\n");
    put("no-end.pem", &plain.as_bytes()[..plain.len() - 36]);
    put("mine", &BYTES[&(1, 1)]);
    put("mine.pub", public_line::format(KEYS[2].public(), "another's").as_bytes());
    put("fine.key", &BYTES[&(2, 2)]);
    put("fine.pub", public_line::format(KEYS[2].public(), "its own").as_bytes());
    let audit = desk.audit(&["downloads"]);
    for name in ["cr.pem", "line.pem", "env.json"] {
        assert!(
            kinds(&audit, name).contains(&"no-passphrase") && kinds(&audit, name).contains(&"duplicate"),
            "{name}"
        );
        assert_eq!(keys_in(&desk.path("downloads").join(name)), [KEYS[0].public().clone()], "{name}");
    }
    assert!(kinds(&audit, "open.jwk").contains(&"foreign"));
    assert!(kinds(&audit, "closed.p12").contains(&"foreign"));
    assert_eq!(kinds(&audit, "no-end.pem"), ["exposed", "broken"]);
    assert!(kinds(&audit, "mine").contains(&"other-half"));
    assert!(!kinds(&audit, "fine.key").contains(&"other-half"));
    // What stands beside other things is never alone.
    let in_json = audit.subjects.iter().find(|subject| subject.name.ends_with("env.json")).unwrap();
    assert!(!in_json.is_alone);
}
