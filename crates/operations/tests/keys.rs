//! Operations against simulated machines, without a process and without a terminal: answers come from a script.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::future::{Future, ready};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing, MachineBook, RingEntry, TrustStore, Verified};
use lantern_harbour::{Harbour, LoginRule, MachineSpec, UserSpec};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, SecretString, SystemRandom};
use lantern_link::{Answer, Answering, Ask, LinkError, Nobody, Question, TrustFailure};
use lantern_operations::login::{Proof, Way, prove};
use lantern_operations::place::Change;
use lantern_operations::rotate::{self, RotateError};
use lantern_operations::trust::{AcceptError, FindingKind, Standing, Wanted, accept, audit, look, standing};
use lantern_operations::{
    InstallError, OperationError, ReachOptions, Target, WithdrawError, install, withdraw,
};

/// Answers from a list, and remembers what was asked.
#[derive(Default)]
struct Script {
    answers: Mutex<Vec<Answer>>,
    asked: Mutex<Vec<String>>,
}

impl Script {
    fn new(answers: impl IntoIterator<Item = Answer>) -> Self {
        let mut answers: Vec<Answer> = answers.into_iter().collect();
        answers.reverse();
        Self { answers: Mutex::new(answers), asked: Mutex::default() }
    }

    fn asked(&self) -> usize {
        self.asked.lock().unwrap().len()
    }
}

impl Ask for Script {
    fn ask(&self, question: Question) -> Answering {
        self.asked.lock().unwrap().push(format!("{question:?}"));
        let answer = self.answers.lock().unwrap().pop().unwrap_or(Answer::NoOne);
        Box::pin(ready(answer))
    }
}

fn password() -> Answer {
    Answer::Secret(SecretString::new("low visibility".into()))
}

struct Scene {
    _folder: tempfile::TempDir,
    home: Home,
    harbour: Harbour,
    options: ReachOptions,
}

impl Scene {
    /// A home with the keys `harbour` and `pier`, and a machine of the book that is trusted and takes the password.
    async fn new(rule: LoginRule) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        for name in ["harbour", "pier"] {
            let key = PrivateKey::generate(KeyAlgorithm::Ed25519, name).unwrap();
            let ring = KeyRing::new(&home);
            ring.add(name, &key, Protect::default(), KeyNote::default(), &mut SystemRandom).unwrap();
        }
        let mut keeper = UserSpec::new("keeper", Some("low visibility"), vec![]);
        keeper.rule = rule;
        let spec = MachineSpec { users: vec![keeper], ..MachineSpec::new("lamp-01", 1).unwrap() };
        let host_key = spec.host_keys[0].public().clone();
        let harbour = Harbour::light(vec![spec]).await.unwrap();
        let address = harbour.machines()[0].address;
        let text = format!(
            "[machines.lamp-01]\naddress = \"{}\"\nport = {}\nuser = \"keeper\"\n",
            address.ip(),
            address.port()
        );
        std::fs::write(home.path().join("machines.toml"), text).unwrap();
        let now = Timestamp::now();
        TrustStore::accept(&home, "lamp-01", &address.to_string(), &host_key, Verified::Expected, now)
            .unwrap();
        Self { _folder: folder, home, harbour, options: ReachOptions::default() }
    }

    fn target(&self) -> Target {
        Target::resolve(&self.home, "lamp-01").unwrap()
    }

    fn entry(&self, name: &str) -> RingEntry {
        KeyRing::new(&self.home).get(name).unwrap()
    }

    fn list(&self) -> String {
        String::from_utf8(self.harbour.machines()[0].logins("keeper")).unwrap()
    }

    fn way<'a>(&'a self, target: &'a Target, ask: &'a dyn Ask) -> Way<'a> {
        Way { home: &self.home, target, options: &self.options, ask }
    }
}

fn any_way() -> LoginRule {
    LoginRule::AnyOf(vec!["publickey", "password"])
}

fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), future).await.expect("it hangs") })
}

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
        let seen = |home: &Home, keys: &[_]| standing(&TrustStore::load(home).unwrap(), &request, keys);
        let mut count = 0;
        let looked = look(vec![request.clone(), request.clone()], || count += 1).await;
        assert_eq!(count, 2);
        let keys = looked.into_iter().next().unwrap().unwrap();
        assert_eq!(seen(&scene.home, &keys), Standing::Known);
        TrustStore::forget(&scene.home, "lamp-01").unwrap();
        assert_eq!(seen(&scene.home, &keys), Standing::New { same_key: vec![] });

        let stranger = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().fingerprint();
        let by = |wanted: Vec<_>| {
            let (request, keys) = (request.clone(), keys.clone());
            async move { accept(&request, keys, Wanted::Fingerprints(&wanted), &Nobody, |_, _| {}).await }
        };
        assert!(matches!(by(vec![]).await, Err(AcceptError::NotListed { .. })));
        let refused = by(vec![stranger]).await.unwrap_err();
        let AcceptError::Trust(LinkError::Trust(failure)) = refused else { panic!("{refused}") };
        assert!(matches!(*failure, TrustFailure::NotExpected { .. }));
        let ask = Script::new([Answer::No]);
        let refused = accept(&request, keys.clone(), Wanted::Answer, &ask, |_, _| {}).await;
        assert!(matches!(refused, Err(AcceptError::Trust(_))));
        assert!(TrustStore::load(&scene.home).unwrap().get("lamp-01").is_none());
        let ask = Script::new([Answer::Trust(Verified::Accepted)]);
        let accepted = accept(&request, keys.clone(), Wanted::Answer, &ask, |_, _| {}).await.unwrap();
        assert_eq!((accepted.len(), seen(&scene.home, &keys)), (keys.len(), Standing::Known));

        let store = TrustStore::load(&scene.home).unwrap();
        let kinds: Vec<_> =
            audit(&store, 30, Timestamp::now()).into_iter().map(|finding| finding.kind).collect();
        assert!(matches!(kinds.as_slice(), [FindingKind::Uncompared { .. }]), "{kinds:?}");
        let later = Timestamp::now() + jiff::SignedDuration::from_hours(24 * 31);
        assert!(
            audit(&store, 30, later).iter().any(|finding| matches!(finding.kind, FindingKind::Unseen { .. }))
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
