//! A home, a simulated machine, and somebody who answers from a script.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]

use std::future::{Future, ready};
use std::sync::Mutex;
use std::time::Duration;

use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing, RingEntry, TrustStore, Verified};
use lantern_harbour::{Harbour, LoginRule, MachineSpec, UserSpec};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, SecretString, SystemRandom};
use lantern_link::{Answer, Answering, Ask, Question};
use lantern_operations::login::Way;
use lantern_operations::{ReachOptions, Target};

/// Answers from a list, and remembers what was asked.
#[derive(Default)]
pub struct Script {
    pub answers: Mutex<Vec<Answer>>,
    pub asked: Mutex<Vec<String>>,
    /// Whether a password was handed over.
    pub has_password: bool,
}

impl Script {
    pub fn new(answers: impl IntoIterator<Item = Answer>) -> Self {
        let mut answers: Vec<Answer> = answers.into_iter().collect();
        answers.reverse();
        Self { answers: Mutex::new(answers), ..Self::default() }
    }

    pub fn asked(&self) -> usize {
        self.asked.lock().unwrap().len()
    }
}

impl Ask for Script {
    fn ask(&self, question: Question) -> Answering {
        self.asked.lock().unwrap().push(format!("{question:?}"));
        let answer = self.answers.lock().unwrap().pop().unwrap_or(Answer::NoOne);
        Box::pin(ready(answer))
    }

    fn password_at_hand(&self, _machine: &str) -> bool {
        self.has_password
    }
}

pub fn password() -> Answer {
    Answer::Secret(SecretString::new("low visibility".into()))
}

pub struct Scene {
    _folder: tempfile::TempDir,
    pub home: Home,
    pub harbour: Harbour,
    pub options: ReachOptions,
}

impl Scene {
    /// A home with the keys `harbour` and `pier`, and a machine of the book that is trusted and takes the password.
    pub async fn new(rule: LoginRule) -> Self {
        Self::like(|spec, _| spec.users[0].rule = rule).await
    }

    /// The same with another machine; `change` gets it, and the key `harbour`, which it does not take yet.
    pub async fn like(change: impl FnOnce(&mut MachineSpec, PublicKey)) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = Home::new(folder.path().join("home"));
        let ring = KeyRing::new(&home);
        for name in ["harbour", "pier"] {
            let key = PrivateKey::generate(KeyAlgorithm::Ed25519, name).unwrap();
            ring.add(name, &key, Protect::default(), KeyNote::default(), &mut SystemRandom).unwrap();
        }
        let users = vec![UserSpec::new("keeper", Some("low visibility"), vec![])];
        let mut spec = MachineSpec { users, ..MachineSpec::new("lamp-01", 1).unwrap() };
        change(&mut spec, ring.get("harbour").unwrap().public);
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

    /// Adds lines to the table of the machine in the book.
    pub fn add_to_book(&self, lines: &str) {
        let path = self.home.path().join("machines.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        std::fs::write(path, format!("{text}{lines}\n")).unwrap();
    }

    pub fn target(&self) -> Target {
        Target::resolve(&self.home, "lamp-01").unwrap()
    }

    pub fn entry(&self, name: &str) -> RingEntry {
        KeyRing::new(&self.home).get(name).unwrap()
    }

    pub fn list(&self) -> String {
        String::from_utf8(self.harbour.machines()[0].logins("keeper")).unwrap()
    }

    pub fn way<'a>(&'a self, target: &'a Target, ask: &'a dyn Ask) -> Way<'a> {
        Way { home: &self.home, target, options: &self.options, ask }
    }
}

pub fn any_way() -> LoginRule {
    LoginRule::AnyOf(vec!["publickey", "password"])
}

pub fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), future).await.expect("it hangs") })
}
