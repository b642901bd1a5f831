//! What is decided without the lock, and what another program learned meanwhile; and the lock itself.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::mpsc;
use std::thread;

use jiff::Timestamp;
use lantern_book::{Home, Kept, KnownBy, KnownKey, Revoked, TrustStore, Verified, tell_waits};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey};
use support::home;

const PLACE: &str = "192.0.2.7:22";

fn key() -> PublicKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone()
}

fn known(key: &PublicKey, verified: Verified) -> KnownKey {
    KnownKey::new(key.clone(), verified, Timestamp::now())
}

fn kept(home: &Home) -> Vec<(PublicKey, Verified)> {
    let store = TrustStore::load(home).unwrap();
    let keys = store.get("lamp-01").unwrap().map(|record| record.keys).unwrap_or_default();
    keys.into_iter().map(|known| (known.key, known.verified)).collect()
}

fn decide(home: &Home, before: &[PublicKey], decided: &[KnownKey]) -> Kept {
    TrustStore::keep_decided(home, "lamp-01", PLACE, before, decided).unwrap()
}

#[test]
fn a_decision_holds_as_long_as_what_it_was_made_on() {
    let (_folder, home) = home();
    let (old, new) = (key(), key());
    assert_eq!(decide(&home, &[], &[known(&old, Verified::Accepted)]), Kept::Yes);
    assert_eq!(kept(&home), [(old.clone(), Verified::Accepted)]);
    // A replacement that was decided on what is still there.
    assert_eq!(decide(&home, std::slice::from_ref(&old), &[known(&new, Verified::Pasted)]), Kept::Yes);
    assert_eq!(kept(&home), [(new.clone(), Verified::Pasted)]);
    // One that was decided on nothing, while another program learned something.
    let Kept::Otherwise(there) = decide(&home, &[], &[known(&old, Verified::Accepted)]) else { panic!() };
    assert_eq!(there.iter().map(KnownBy::fingerprint).collect::<Vec<_>>(), [new.fingerprint()]);
    assert_eq!(kept(&home), [(new.clone(), Verified::Pasted)]);
    // The other way round: it was forgotten meanwhile.
    assert!(matches!(decide(&home, &[key()], &[known(&new, Verified::FirstUse)]), Kept::Yes));
}

/// What somebody compared is not replaced by what nobody did, and the keys beside it stay.
#[test]
fn the_same_key_learned_twice_keeps_the_better_word_for_it() {
    let (_folder, home) = home();
    let (one, other) = (key(), key());
    let both = [known(&one, Verified::Pasted), known(&other, Verified::Signed)];
    TrustStore::accept_all(&home, "lamp-01", "198.51.100.7:22", &both).unwrap();
    assert_eq!(decide(&home, &[], &[known(&one, Verified::FirstUse)]), Kept::Yes);
    assert_eq!(kept(&home), [(one, Verified::Pasted), (other, Verified::Signed)]);
    let store = TrustStore::load(&home).unwrap();
    assert_eq!(store.get("lamp-01").unwrap().unwrap().addresses, ["198.51.100.7:22", PLACE]);
}

#[test]
fn what_was_revoked_meanwhile_is_not_kept() {
    let (_folder, home) = home();
    let (good, stolen) = (key(), key());
    let revoked = Revoked {
        fingerprint: stolen.fingerprint(),
        reason: "stolen at sea".into(),
        since: Timestamp::now(),
    };
    TrustStore::revoke(&home, revoked).unwrap();
    let decided = [known(&good, Verified::Accepted), known(&stolen, Verified::Accepted)];
    assert!(
        matches!(decide(&home, &[], &decided), Kept::Revoked(revoked) if revoked.reason == "stolen at sea")
    );
    assert_eq!(kept(&home), []);
}

/// Many first contacts at once, each decided on nothing: one is kept whole, and all others hear of it.
#[test]
fn of_many_first_contacts_with_one_machine_one_is_kept() {
    let (_folder, home) = home();
    let outcomes: Vec<Kept> = thread::scope(|scope| {
        let decide = |_| scope.spawn(|| decide(&home, &[], &[known(&key(), Verified::Accepted)]));
        let running: Vec<_> = (0..8).map(decide).collect();
        running.into_iter().map(|one| one.join().unwrap()).collect()
    });
    assert_eq!(outcomes.iter().filter(|outcome| **outcome == Kept::Yes).count(), 1);
    assert_eq!(kept(&home).len(), 1);
}

#[test]
fn a_home_that_others_may_write_to_is_told_as_that() {
    let (_folder, home) = home();
    let metadata = |home: &Home| std::fs::metadata(home.path()).unwrap();
    // Not there yet.
    home.check_alone(1).unwrap();
    std::fs::create_dir_all(home.path()).unwrap();
    let us = std::os::unix::fs::MetadataExt::uid(&metadata(&home));
    for (mode, good) in [(0o700, true), (0o755, true), (0o770, false), (0o702, false), (0o1777, false)] {
        std::fs::set_permissions(home.path(), std::fs::Permissions::from_mode(mode)).unwrap();
        assert_eq!(home.check_alone(us).is_ok(), good, "{mode:o}");
    }
    std::fs::set_permissions(home.path(), std::fs::Permissions::from_mode(0o700)).unwrap();
    // Another's home is not ours; the system's own may be.
    assert_eq!(home.check_alone(us + 1).is_ok(), us == 0);
}

#[test]
fn the_lock_is_for_its_owner_and_waits_are_told() {
    let (_folder, home) = home();
    std::fs::create_dir_all(home.path()).unwrap();
    let file = home.path().join(".lock");
    // As an older version left it.
    std::fs::write(&file, "").unwrap();
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644)).unwrap();
    let held = home.lock().unwrap();
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    static TOLD: std::sync::Mutex<Option<(String, Option<u32>)>> = std::sync::Mutex::new(None);
    fn tell(path: &Path, holder: Option<u32>) {
        *TOLD.lock().unwrap() = Some((path.display().to_string(), holder));
    }
    tell_waits(tell);
    let (sender, waited) = mpsc::channel();
    let other = home.clone();
    let waiting = thread::spawn(move || {
        let lock = other.lock().unwrap();
        sender.send(()).unwrap();
        drop(lock);
    });
    while TOLD.lock().unwrap().is_none() {
        assert!(waited.try_recv().is_err(), "two held it at once");
        thread::yield_now();
    }
    let told = TOLD.lock().unwrap().clone();
    assert_eq!(told, Some((file.display().to_string(), Some(std::process::id()))));
    drop(held);
    waiting.join().unwrap();
    waited.recv().unwrap();
}
