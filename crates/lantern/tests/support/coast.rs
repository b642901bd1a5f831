//! A machine of Windows in a realm with a real key distribution centre, and a desk that reaches it.

use std::process::{Command, Stdio};

use lantern_harbour::{WindowsRealm, WindowsSpec};
use lantern_keys::SecretString;
use serde_json::Value;

use super::realm::{self, Realm};
use super::windows::{PASSWORD, Windows, chart_room, desk_for, trust};
use super::{Desk, Outcome};

pub const REALM: &str = "COAST.EXAMPLE";
pub const SERVICE: &str = "HTTP/chart-room.coast.example";
pub const PLAIN: &str = "plain=private-network";

/// A machine in a realm, and a realm in which it is.
pub struct Coast {
    pub realm: Realm,
    pub windows: Windows,
    pub desk: Desk,
    pub cache: String,
}

impl Coast {
    /// None where no realm can be made here.
    pub fn new(change: impl FnOnce(&mut WindowsSpec), settings: &[&str]) -> Option<Self> {
        realm::is_possible().then(|| Self::with(change, settings))
    }

    pub fn with(change: impl FnOnce(&mut WindowsSpec), settings: &[&str]) -> Self {
        let realm = Realm::new(REALM, "");
        realm.user("keeper", PASSWORD, "+requires_preauth");
        realm.user("warden", "full moon", "+requires_preauth");
        realm.service(SERVICE, "service secret", "");
        let password = SecretString::new("service secret".into());
        let in_realm = WindowsRealm { name: REALM.into(), service: SERVICE.into(), password };
        let mut spec = WindowsSpec { realm: Some(in_realm), ..chart_room() };
        change(&mut spec);
        let windows = Windows::light(spec);
        let service = format!("service-name={SERVICE}");
        let desk = desk_for(&windows, &[&[service.as_str()], settings].concat());
        trust(&desk, &windows);
        let cache = format!("FILE:{}", desk.folder.path().join("tickets").display());
        Self { realm, windows, desk, cache }
    }

    pub fn ticket(&self, options: &[&str]) {
        self.realm.tickets("keeper", PASSWORD, &self.cache, options);
    }

    pub fn set(&self, what: &str) {
        self.desk.lantern(&["machine", "set", "chart-room", what]).expect(0);
    }

    pub fn lantern(&self, words: &[&str]) -> Outcome {
        let mut command = self.desk.command(words);
        command.env("KRB5_CONFIG", self.realm.configuration()).env("KRB5CCNAME", &self.cache);
        command.output().unwrap().into()
    }

    pub fn run(&self) -> Outcome {
        self.lantern(&["run", "chart-room", "--no-questions", "--", "whoami"])
    }

    pub fn with_password(&self, words: &[&str], password: &str) -> Outcome {
        let file = self.desk.folder.path().join("password");
        std::fs::write(&file, password).unwrap();
        let shell = "exec 3<\"$1\"; shift; exec \"$@\"";
        let mut command = Command::new("sh");
        command.args(["-c", shell, "sh", file.to_str().unwrap(), super::binary()]).args(words);
        let plain = self.desk.command(words);
        command.env_clear().envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.env("KRB5_CONFIG", self.realm.configuration()).env("KRB5CCNAME", &self.cache);
        command.stdin(Stdio::null()).output().unwrap().into()
    }

    pub fn by_password(&self, password: &str) -> Outcome {
        let words = ["run", "chart-room", "--no-questions", "--password-from", "fd:3", "--", "whoami"];
        self.with_password(&words, password)
    }

    pub fn check(&self, status: i32) -> Value {
        let outcome =
            self.lantern(&["check", "--no-questions", "--json", "--login-limit", "5", "chart-room"]);
        let value: Value = serde_json::from_str(outcome.text()).unwrap_or_else(|_| panic!("{}", outcome.err));
        assert_eq!(outcome.status, status, "{value:#}");
        value[0].clone()
    }
}
