//! The decision about a host key: by what is known, expected or allowed, and else by a person; and what is kept of it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod scene;

use std::future::ready;
use std::sync::Mutex;

use jiff::Timestamp;
use lantern_book::{Home, Revoked, TrustStore, Verified};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey};
use lantern_link::{
    Answer, Answering, Ask, ConnectRequest, LinkError, Note, Question, Trunk, TrustFailure, TrustPolicy,
    connect_over,
};
use scene::{Scene, on_this_thread};

/// Answers with the one thing, and counts what was asked and told.
struct Person {
    answer: Answer,
    asked: Mutex<Vec<String>>,
    notes: Mutex<Vec<String>>,
}

impl Person {
    fn who_says(answer: Answer) -> Self {
        Self { answer, asked: Mutex::default(), notes: Mutex::default() }
    }

    fn asked(&self) -> usize {
        self.asked.lock().unwrap().len()
    }
}

impl Ask for Person {
    fn ask(&self, question: Question) -> Answering {
        self.asked.lock().unwrap().push(format!("{question:?}"));
        Box::pin(ready(self.answer.clone()))
    }

    fn note(&self, note: &Note<'_>) {
        self.notes.lock().unwrap().push(format!("{note:?}"));
    }
}

async fn visit(scene: &Scene, request: &ConnectRequest, person: &Person) -> Result<Trunk, LinkError> {
    let (_machine, line) = scene.machine();
    connect_over(request, Box::new(line), "a line in memory", person).await
}

fn failure(outcome: Result<Trunk, LinkError>) -> TrustFailure {
    match outcome {
        Err(LinkError::Trust(failure)) => *failure,
        other => panic!("{other:?}"),
    }
}

fn stranger() -> PublicKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone()
}

fn keys(home: &Home, machine: &str) -> Vec<(PublicKey, Verified)> {
    let store = TrustStore::load(home).unwrap();
    let record = store.get(machine).unwrap();
    record
        .map(|record| record.keys.iter().map(|known| (known.key.clone(), known.verified)).collect())
        .unwrap_or_default()
}

/// A scene whose machine was never met, and the key that it has.
fn unmet() -> (Scene, Home, PublicKey) {
    let scene = Scene::new();
    let home = scene.request.home.clone();
    let (key, _) = keys(&home, "lamp-01").remove(0);
    TrustStore::forget(&home, "lamp-01").unwrap();
    (scene, home, key)
}

#[test]
fn a_person_decides_about_what_was_never_met_and_it_is_kept() {
    on_this_thread(async {
        let (scene, home, key) = unmet();
        for (answer, expected) in [
            (Answer::No, "Rejected"),
            (Answer::NoOne, "NoOneToAsk"),
            (Answer::Yes, "Rejected"),
            (Answer::Secrets(Vec::new()), "Rejected"),
        ] {
            let person = Person::who_says(answer);
            let failure = failure(visit(&scene, &scene.request, &person).await);
            assert!(format!("{failure:?}").starts_with(expected), "{failure:?}");
            assert_eq!((person.asked(), keys(&home, "lamp-01").len()), (1, 0));
        }
        let person = Person::who_says(Answer::Trust(Verified::Pasted));
        let trunk = visit(&scene, &scene.request, &person).await.unwrap();
        assert_eq!(keys(&home, "lamp-01"), [(key, Verified::Pasted)]);
        let asked = person.asked.lock().unwrap().join(" ");
        assert!(asked.contains("a line in memory") && asked.contains("192.0.2.7:22"), "{asked}");
        trunk.close().await;
        // Next time nobody is asked.
        let person = Person::who_says(Answer::No);
        visit(&scene, &scene.request, &person).await.unwrap().close().await;
        assert_eq!(person.asked(), 0);
    });
}

#[test]
fn what_was_said_beforehand_needs_no_person_and_cannot_be_talked_over() {
    on_this_thread(async {
        let (scene, home, key) = unmet();
        // Whoever says yes to everything is not asked.
        let person = Person::who_says(Answer::Trust(Verified::Accepted));
        let wrong = ConnectRequest { expect: Some(stranger().fingerprint()), ..scene.request.clone() };
        let refused = failure(visit(&scene, &wrong, &person).await);
        assert!(matches!(refused, TrustFailure::NotExpected { .. }), "{refused:?}");
        let known_only = ConnectRequest { trust: TrustPolicy::KnownOnly, ..scene.request.clone() };
        let refused = failure(visit(&scene, &known_only, &person).await);
        assert!(matches!(refused, TrustFailure::KnownOnly { .. }), "{refused:?}");
        assert_eq!((person.asked(), keys(&home, "lamp-01").len()), (0, 0));
        // An expectation goes before a policy: it says more.
        let right = ConnectRequest {
            expect: Some(key.fingerprint()),
            trust: TrustPolicy::KnownOnly,
            ..scene.request.clone()
        };
        visit(&scene, &right, &person).await.unwrap().close().await;
        assert_eq!((person.asked(), keys(&home, "lamp-01")), (0, vec![(key, Verified::Expected)]));
        // Also of a machine that is known: another key than the expected one is none.
        let refused = failure(visit(&scene, &wrong, &person).await);
        assert!(matches!(refused, TrustFailure::NotExpected { .. }), "{refused:?}");
    });
}

#[test]
fn first_use_is_told_and_marked_as_what_it_is() {
    on_this_thread(async {
        let (scene, home, key) = unmet();
        let person = Person::who_says(Answer::No);
        let request = ConnectRequest { trust: TrustPolicy::FirstUse, ..scene.request.clone() };
        visit(&scene, &request, &person).await.unwrap().close().await;
        assert_eq!((person.asked(), keys(&home, "lamp-01")), (0, vec![(key, Verified::FirstUse)]));
        assert!(person.notes.lock().unwrap().iter().any(|note| note.starts_with("FirstUse")));
        // It was the first: the next one is known, and not told again.
        let person = Person::who_says(Answer::No);
        visit(&scene, &request, &person).await.unwrap().close().await;
        assert!(person.notes.lock().unwrap().is_empty(), "{:?}", person.notes);
    });
}

/// Not a yes, not an expectation, not a policy lets in what was exchanged or revoked.
#[test]
fn a_changed_or_revoked_key_is_refused_whatever_else_is_said() {
    on_this_thread(async {
        let (scene, home, key) = unmet();
        let (now, place) = (Timestamp::now(), scene.request.place());
        let say_yes = || Person::who_says(Answer::Trust(Verified::Accepted));
        let requests =
            |expect| {
                [TrustPolicy::Ask, TrustPolicy::FirstUse, TrustPolicy::KnownOnly]
                    .map(|trust| ConnectRequest { trust, expect, ..scene.request.clone() })
            };
        TrustStore::accept(&home, "lamp-01", &place, &stranger(), Verified::Expected, now).unwrap();
        TrustStore::accept(&home, "lamp-02", "192.0.2.8:22", &key, Verified::Expected, now).unwrap();
        for request in [requests(None), requests(Some(key.fingerprint()))].concat() {
            let person = say_yes();
            let TrustFailure::Changed { known, belongs_to, .. } =
                failure(visit(&scene, &request, &person).await)
            else {
                panic!("{request:?}")
            };
            // Whose key it is says what may have happened.
            assert_eq!(
                (known.len(), belongs_to.as_slice(), person.asked()),
                (1, &["lamp-02".to_owned()][..], 0)
            );
        }
        TrustStore::forget(&home, "lamp-01").unwrap();
        let revoked = Revoked { fingerprint: key.fingerprint(), reason: "stolen at sea".into(), since: now };
        TrustStore::revoke(&home, revoked).unwrap();
        for request in [requests(None), requests(Some(key.fingerprint()))].concat() {
            let person = say_yes();
            let refused = failure(visit(&scene, &request, &person).await);
            assert!(
                matches!(&refused, TrustFailure::Revoked { reason, .. } if reason == "stolen at sea"),
                "{refused:?}"
            );
            assert_eq!((person.asked(), keys(&home, "lamp-01").len()), (0, 0));
        }
        // A record from before the revocation does not help either.
        TrustStore::accept(&home, "lamp-01", &place, &key, Verified::Pasted, now).unwrap();
        let refused = failure(visit(&scene, &scene.request, &say_yes()).await);
        assert!(matches!(refused, TrustFailure::Revoked { .. }), "{refused:?}");
    });
}

#[test]
fn a_machine_that_moved_is_told_and_its_new_place_kept() {
    on_this_thread(async {
        let scene = Scene::new();
        let person = Person::who_says(Answer::No);
        let mut request = scene.request.clone();
        request.addresses = vec!["198.51.100.7".into()];
        visit(&scene, &request, &person).await.unwrap().close().await;
        let notes = person.notes.lock().unwrap().join(" ");
        assert!(
            notes.contains("Moved") && notes.contains("192.0.2.7:22") && notes.contains("198.51.100.7:22"),
            "{notes}"
        );
        let store = TrustStore::load(&request.home).unwrap();
        assert!(store.get("lamp-01").unwrap().unwrap().addresses.contains(&"198.51.100.7:22".to_owned()));
        // Who only looks keeps nothing of it.
        request.addresses = vec!["203.0.113.7".into()];
        request.only_looking = true;
        visit(&scene, &request, &person).await.unwrap().close().await;
        let store = TrustStore::load(&request.home).unwrap();
        assert!(!store.get("lamp-01").unwrap().unwrap().addresses.contains(&"203.0.113.7:22".to_owned()));
    });
}

/// Answers yes after something has happened.
struct Meanwhile<F: Fn() + Send + Sync>(F);

impl<F: Fn() + Send + Sync> Ask for Meanwhile<F> {
    fn ask(&self, _question: Question) -> Answering {
        (self.0)();
        Box::pin(ready(Answer::Trust(Verified::Accepted)))
    }
}

/// While a person thinks, another program learns something: a yes does not talk it over.
#[test]
fn what_is_learned_during_the_question_counts() {
    on_this_thread(async {
        let now = Timestamp::now();
        let (scene, home, key) = unmet();
        let visit = async |happens: &(dyn Fn() + Send + Sync)| {
            let (_machine, line) = scene.machine();
            connect_over(&scene.request, Box::new(line), "a line in memory", &Meanwhile(happens)).await
        };
        let other = stranger();
        let place = scene.request.place();
        let refused = failure(
            visit(&|| TrustStore::accept(&home, "lamp-01", &place, &other, Verified::Pasted, now).unwrap())
                .await,
        );
        assert!(matches!(refused, TrustFailure::Changed { .. }), "{refused:?}");
        assert_eq!(keys(&home, "lamp-01"), [(other, Verified::Pasted)]);
        TrustStore::forget(&home, "lamp-01").unwrap();
        // The same key, and a better word for it: that stays.
        let trunk =
            visit(&|| TrustStore::accept(&home, "lamp-01", &place, &key, Verified::Pasted, now).unwrap())
                .await;
        trunk.unwrap().close().await;
        assert_eq!(keys(&home, "lamp-01"), [(key.clone(), Verified::Pasted)]);
        TrustStore::forget(&home, "lamp-01").unwrap();
        let revoked = Revoked { fingerprint: key.fingerprint(), reason: "stolen at sea".into(), since: now };
        let refused = failure(visit(&|| assert!(TrustStore::revoke(&home, revoked.clone()).unwrap())).await);
        assert!(matches!(refused, TrustFailure::Revoked { .. }), "{refused:?}");
        assert_eq!(keys(&home, "lamp-01"), []);
    });
}
