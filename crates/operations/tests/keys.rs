//! Operations against simulated machines, without a process and without a terminal: answers come from a script.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod desk;

use std::sync::Arc;
use std::time::Duration;

use desk::{Scene, Script, any_way, on_this_thread, password};
use jiff::Timestamp;
use lantern_book::{Home, KeyRing, MachineBook, TrustStore, Verified};
use lantern_harbour::LoginRule;
use lantern_keys::{KeyAlgorithm, PrivateKey};
use lantern_link::{Answer, LinkError, Nobody, RemoteRequest, Seen, TrustFailure};
use lantern_operations::login::{Proof, prove};
use lantern_operations::place::Change;
use lantern_operations::rotate::{self, RotateError};
use lantern_operations::trust::{AcceptError, FindingKind, Standing, Wanted, accept, audit, look, standing};
use lantern_operations::{InstallError, OperationError, Target, WithdrawError, install, withdraw};

#[test]
fn a_key_goes_onto_a_machine_once_and_comes_off_where_another_way_is_left() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let target = scene.target();
        let ask = Script::new([password()]);
        let harbour = scene.entry("harbour");
        let installed = install(scene.way(&target, &ask), &harbour, "", false).await.unwrap();
        assert_eq!((installed.change, installed.logged_in, installed.in_book), (Change::Made, true, true));
        assert_eq!((installed.user.as_str(), ask.asked()), ("keeper", 1));
        assert_eq!(scene.list().lines().count(), 1);
        // Again: the key logs in now, nobody is asked, and nothing changes.
        let again = install(scene.way(&target, &ask), &harbour, "", true).await.unwrap();
        assert_eq!((again.change, again.logged_in, ask.asked()), (Change::None, true, 1));
        assert_eq!(scene.list().lines().count(), 1);
        let book = MachineBook::load(&scene.home).unwrap();
        assert_eq!(book.users_of_key("harbour").collect::<Vec<_>>(), ["lamp-01"]);
        assert_eq!(scene.entry("harbour").note.installed.len(), 1);

        // The last way in stays: the other key does not log in, and nobody gives the password.
        let target = scene.target();
        let refused = withdraw(scene.way(&target, &Nobody), &harbour, false, &Nobody).await.unwrap_err();
        assert!(matches!(refused, WithdrawError::LastWay { .. }), "{refused}");
        assert_eq!(scene.list().lines().count(), 1);
        let ask = Script::new([password()]);
        let withdrawn = withdraw(scene.way(&target, &ask), &harbour, false, &Nobody).await.unwrap();
        assert_eq!((withdrawn.change, withdrawn.still_in), (Change::Made, false));
        assert_eq!((scene.list().as_str(), scene.entry("harbour").note.installed.len()), ("", 0));
    });
}

#[test]
fn a_key_that_does_not_open_the_machine_alone_is_told_as_that() {
    on_this_thread(async {
        let scene = Scene::new(LoginRule::InTurn(vec!["publickey", "password"])).await;
        let target = scene.target();
        let harbour = scene.entry("harbour");
        // No key is in the list yet, so nobody gets in at all.
        let ask = Script::new([password()]);
        let error = install(scene.way(&target, &ask), &harbour, "", false).await.unwrap_err();
        assert!(
            matches!(error, InstallError::Operation(OperationError::Link(LinkError::Auth(_)))),
            "{error}"
        );
        assert!(matches!(prove(scene.way(&target, &Nobody), "harbour").await, Ok(Proof::Refused(_))));
        let error = install(scene.way(&target, &ask), &scene.entry("pier"), "", false).await.unwrap_err();
        assert!(matches!(error, InstallError::Operation(_)));
        // A machine that is nowhere in the book cannot be told to use a key.
        let elsewhere = Target::resolve(&scene.home, "keeper@192.0.2.7:22").unwrap();
        let error = install(scene.way(&elsewhere, &Nobody), &harbour, "", true).await.unwrap_err();
        assert!(matches!(error, InstallError::NotInBook { machine } if machine == "192.0.2.7:22"));
    });
}

#[test]
fn a_rotation_goes_on_wherever_it_was_left() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let target = scene.target();
        let ask = Script::new([password()]);
        let old = scene.entry("harbour");
        install(scene.way(&target, &ask), &old, "no-pty", true).await.unwrap();
        let ring = KeyRing::new(&scene.home);
        let name = rotate::new_name(&ring, &old, None).unwrap();
        assert_eq!(name, "harbour-2");
        rotate::begin(&ring, &old, &name).unwrap();
        let old = scene.entry("harbour");
        // A rotation that has begun keeps its name, and another one is refused.
        assert_eq!(rotate::new_name(&ring, &old, None).unwrap(), name);
        let other = rotate::new_name(&ring, &old, Some("quay"));
        assert!(matches!(other, Err(RotateError::Begun { begun, .. }) if begun == name));
        rotate::make(&ring, &old.sealed.open(None).unwrap(), &name, None).unwrap();
        assert_eq!(rotate::machines_of(&scene.home, &old).unwrap(), ["lamp-01"]);
        let new = scene.entry(&name);
        let target = scene.target();
        rotate::rotate_on(scene.way(&target, &Nobody), &old, &new, false).await.unwrap();
        // What was limited stays so; the old key is out, the book names the new one.
        let list = scene.list();
        assert!(list.starts_with("no-pty ssh-ed25519 ") && list.lines().count() == 1, "{list}");
        let target = scene.target();
        assert_eq!(target.keys, std::slice::from_ref(&name));
        assert!(matches!(prove(scene.way(&target, &Nobody), &name).await, Ok(Proof::LoggedIn(_))));
        assert!(matches!(prove(scene.way(&target, &Nobody), "harbour").await, Ok(Proof::Refused(_))));
        // Done again, it does nothing twice.
        rotate::rotate_on(scene.way(&target, &Nobody), &old, &new, false).await.unwrap();
        assert_eq!(scene.list(), list);
    });
}

#[test]
fn what_a_machine_presents_is_judged_and_accepted_by_fingerprint_or_by_a_person() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let request = scene
            .target()
            .request(&scene.home, &scene.options, lantern_link::KeyChoice::Nothing, false)
            .unwrap();
        let seen = |home: &Home, keys: &Seen| {
            standing(&TrustStore::load(home).unwrap(), &request, &keys.presented).unwrap()
        };
        let mut count = 0;
        let looked = look(vec![RemoteRequest::Ssh(Box::new(request.clone())); 2], || count += 1).await;
        assert_eq!(count, 2);
        let keys = looked.into_iter().next().unwrap().unwrap();
        assert_eq!(seen(&scene.home, &keys), Standing::Known);
        TrustStore::forget(&scene.home, "lamp-01").unwrap();
        assert_eq!(seen(&scene.home, &keys), Standing::New { same_key: vec![] });

        let stranger = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().fingerprint();
        let by = |wanted: Vec<_>| {
            let (request, keys) = (request.clone(), keys.clone());
            async move {
                accept(&request, keys, Wanted::Fingerprints(&wanted, Verified::Expected), &Nobody, |_, _| {})
                    .await
            }
        };
        assert!(matches!(by(vec![]).await, Err(AcceptError::NotListed { .. })));
        let refused = by(vec![stranger]).await.unwrap_err();
        let AcceptError::Trust(LinkError::Trust(failure)) = refused else { panic!("{refused}") };
        assert!(matches!(*failure, TrustFailure::NotExpected { .. }));
        let ask = Script::new([Answer::No]);
        let refused = accept(&request, keys.clone(), Wanted::Answer, &ask, |_, _| {}).await;
        assert!(matches!(refused, Err(AcceptError::Trust(_))));
        assert!(TrustStore::load(&scene.home).unwrap().get("lamp-01").unwrap().is_none());
        let ask = Script::new([Answer::Trust(Verified::Accepted)]);
        let accepted = accept(&request, keys.clone(), Wanted::Answer, &ask, |_, _| {}).await.unwrap();
        assert_eq!((accepted.len(), seen(&scene.home, &keys)), (keys.presented.len(), Standing::Known));

        let store = TrustStore::load(&scene.home).unwrap();
        let kinds: Vec<_> =
            audit(&store, 30, Timestamp::now()).unwrap().into_iter().map(|finding| finding.kind).collect();
        assert!(matches!(kinds.as_slice(), [FindingKind::Uncompared { .. }]), "{kinds:?}");
        let later = Timestamp::now() + jiff::SignedDuration::from_hours(24 * 31);
        assert!(
            audit(&store, 30, later)
                .unwrap()
                .iter()
                .any(|finding| matches!(finding.kind, FindingKind::Unseen { .. }))
        );
    });
}

/// Dropped at any point, an operation leaves no half-changed list behind: the machine's own command replaces it whole or not at all.
#[test]
fn an_install_that_is_dropped_leaves_the_list_whole() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let target = scene.target();
        let harbour = scene.entry("harbour");
        let ask: Arc<Script> = Arc::new(Script::new((0..400).map(|_| password())));
        for millis in 0..40 {
            let way = scene.way(&target, &*ask);
            let installing = install(way, &harbour, "", false);
            let done = tokio::time::timeout(Duration::from_millis(millis), installing).await;
            let list = scene.list();
            assert!(list.is_empty() || list.lines().count() == 1 && list.contains("ssh-ed25519 "), "{list}");
            if done.is_ok_and(|installed| installed.unwrap().change == Change::None) {
                return;
            }
        }
        install(scene.way(&target, &*ask), &harbour, "", false).await.unwrap();
        assert_eq!(scene.list().lines().count(), 1);
    });
}

/// A line that somebody else exchanged for one of the same length, between our reading and our writing, is not undone.
#[test]
fn a_list_that_changed_meanwhile_is_left_alone() {
    use lantern_link::remote_logins::{LoginsError, read, write};
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let target = scene.target();
        let ask = Script::new([password()]);
        let trunk = scene.way(&target, &ask).log_in_as_usual().await.unwrap();
        let line = |byte: char| format!("# {}\n", String::from(byte).repeat(60)).into_bytes();
        write(&trunk, b"", &line('a')).await.unwrap();
        let ours = read(&trunk).await.unwrap();
        // Somebody else, in between.
        write(&trunk, &line('a'), &line('b')).await.unwrap();
        let refused = write(&trunk, &ours, &line('c')).await;
        assert!(matches!(refused, Err(LoginsError::Changed)), "{refused:?}");
        assert_eq!(read(&trunk).await.unwrap(), line('b'));
        // What is the same is the same, whoever wrote it.
        write(&trunk, &line('b'), &line('c')).await.unwrap();
    });
}
