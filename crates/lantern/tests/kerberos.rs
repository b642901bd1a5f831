//! Machines of Windows that are logged in to by tickets of a real key distribution centre.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

#[path = "../../kerberos/tests/realm/mod.rs"]
mod realm;
mod support;

use std::io::{Read, Write};

use lantern_harbour::{WindowsRealm, WindowsSpec};
use lantern_keys::SecretString;
use realm::Realm;
use serde_json::Value;
use support::windows::{PASSWORD, Windows, chart_room, desk_for, trust};
use support::{Desk, Outcome, Screen};

const REALM: &str = "COAST.EXAMPLE";
const SERVICE: &str = "HTTP/chart-room.coast.example";
const PLAIN: &str = "plain=private-network";

/// A machine in a realm, and a realm in which it is.
struct Coast {
    realm: Realm,
    windows: Windows,
    desk: Desk,
    cache: String,
}

impl Coast {
    /// None where no realm can be made here.
    fn new(change: impl FnOnce(&mut WindowsSpec), settings: &[&str]) -> Option<Self> {
        realm::is_possible().then(|| Self::with(change, settings))
    }

    fn with(change: impl FnOnce(&mut WindowsSpec), settings: &[&str]) -> Self {
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

    fn ticket(&self, options: &[&str]) {
        self.realm.tickets("keeper", PASSWORD, &self.cache, options);
    }

    fn set(&self, what: &str) {
        self.desk.lantern(&["machine", "set", "chart-room", what]).expect(0);
    }

    fn lantern(&self, words: &[&str]) -> Outcome {
        let mut command = self.desk.command(words);
        command.env("KRB5_CONFIG", self.realm.configuration()).env("KRB5CCNAME", &self.cache);
        command.output().unwrap().into()
    }

    fn run(&self) -> Outcome {
        self.lantern(&["run", "chart-room", "--no-questions", "--", "whoami"])
    }

    fn with_password(&self, words: &[&str], password: &str) -> Outcome {
        let file = self.desk.folder.path().join("password");
        std::fs::write(&file, password).unwrap();
        let shell = "exec 3<\"$1\"; shift; exec \"$@\"";
        let mut command = std::process::Command::new("sh");
        command.args(["-c", shell, "sh", file.to_str().unwrap(), support::binary()]).args(words);
        let plain = self.desk.command(words);
        command.env_clear().envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.env("KRB5_CONFIG", self.realm.configuration()).env("KRB5CCNAME", &self.cache);
        command.stdin(std::process::Stdio::null()).output().unwrap().into()
    }

    fn by_password(&self, password: &str) -> Outcome {
        let words = ["run", "chart-room", "--no-questions", "--password-from", "fd:3", "--", "whoami"];
        self.with_password(&words, password)
    }

    fn check(&self, status: i32) -> Value {
        let outcome =
            self.lantern(&["check", "--no-questions", "--json", "--login-limit", "5", "chart-room"]);
        let value: Value = serde_json::from_str(outcome.text()).unwrap_or_else(|_| panic!("{}", outcome.err));
        assert_eq!(outcome.status, status, "{value:#}");
        value[0].clone()
    }
}

#[test]
fn a_ticket_lets_in_without_a_password_within_tls_and_without() {
    for settings in [&[][..], &[PLAIN]] {
        let plain = |spec: &mut WindowsSpec| {
            if !settings.is_empty() {
                spec.certificate = None;
            }
        };
        let Some(coast) = Coast::new(plain, settings) else { return };
        coast.ticket(&[]);
        let outcome = coast.run().expect(0);
        assert_eq!(outcome.text().trim().to_lowercase(), r"chart-room\keeper");
        // The machine has proven itself: nothing is said of that.
        assert_eq!(outcome.err, "");
        // Much output, in order and whole.
        let much =
            coast.lantern(&["run", "chart-room", "--no-questions", "--", "write-bytes", "300000"]).expect(0);
        assert_eq!(much.out.len(), 300_000);
        let account = coast.check(0);
        assert!(
            account.to_string().contains("Kerberos, by the ticket of keeper@COAST.EXAMPLE"),
            "{account:#}"
        );
        assert_eq!(coast.windows.seen().refused, 0);
    }
}

#[test]
fn a_machine_that_offers_kerberos_by_itself_is_taken_at_its_word() {
    for is_plain in [false, true] {
        let change = |spec: &mut WindowsSpec| {
            spec.offers = vec!["Kerberos"];
            if is_plain {
                spec.certificate = None;
            }
        };
        let Some(coast) = Coast::new(change, if is_plain { &[PLAIN] } else { &[] }) else { return };
        coast.ticket(&[]);
        coast.run().expect(0);
    }
}

#[test]
fn a_folder_of_caches_is_read_and_other_kinds_are_named() {
    let Some(mut coast) = Coast::new(|_| (), &[]) else { return };
    let folder = coast.desk.folder.path().join("caches");
    std::fs::create_dir(&folder).unwrap();
    std::os::unix::fs::symlink("/nonexistent", folder.join("tktold")).unwrap();
    coast.cache = format!("DIR:{}", folder.display());
    coast.ticket(&[]);
    coast.run().expect(0);
    coast.set("login-by=kerberos");
    coast.cache = "KCM:".into();
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("of the kind KCM"), "{}", outcome.err);
    coast.set("login-by=");
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("of the kind KCM"), "{}", outcome.err);
}

#[test]
fn a_password_is_shown_to_the_realm_and_to_no_machine() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    let outcome = coast.by_password(PASSWORD).expect(0);
    assert_eq!(outcome.text().trim().to_lowercase(), r"chart-room\keeper");
    assert_eq!(coast.windows.seen().logins, 1);
    // As domains of Windows write it, too.
    coast.set(r"user=COAST\keeper");
    coast.by_password(PASSWORD).expect(0);
    // A wrong one is tried once, at the realm, and never at the machine.
    let outcome = coast.by_password("low water").expect(249);
    assert!(outcome.err.contains("the password is wrong"), "{}", outcome.err);
    let tries =
        coast.realm.log().matches("PREAUTH_FAILED").count() + coast.realm.log().matches("preauth").count();
    assert!(tries >= 1, "{}", coast.realm.log());
    assert_eq!(coast.windows.seen().refused, 0);
    // A name alone belongs to no realm that nobody named with it: it is the machine's to judge.
    coast.set("user=keeper");
    let before = coast.realm.log();
    coast.by_password(PASSWORD).expect(0);
    assert_eq!(coast.realm.log(), before);
    // Unless there is nothing else that will do.
    coast.set("login-by=kerberos");
    coast.by_password(PASSWORD).expect(0);
    assert_ne!(coast.realm.log(), before);
}

#[test]
fn who_says_nothing_is_the_owner_of_the_ticket() {
    let Some(coast) = Coast::new(|_| (), &[]) else { return };
    coast.set("user=");
    coast.ticket(&[]);
    let mut command = coast.desk.command(&["run", "chart-room", "--no-questions", "--", "whoami"]);
    command
        .env("KRB5_CONFIG", coast.realm.configuration())
        .env("KRB5CCNAME", &coast.cache)
        .env("USER", "nobody");
    let outcome: Outcome = command.output().unwrap().into();
    assert!(outcome.expect(0).text().to_lowercase().contains("keeper"));
    // Another than the one who was named: it is said, and a password is wanted.
    coast.set("user=warden@coast.example");
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("nobody to ask"), "{}", outcome.err);
}

#[test]
fn every_reason_against_a_ticket_is_told_with_its_mend() {
    let Some(coast) = Coast::new(|_| (), &["login-by=kerberos"]) else { return };
    let failed = |wanted: &str, command: &str| {
        let account = coast.check(249);
        let text = account.to_string();
        assert!(text.contains(wanted), "{wanted}: {account:#}");
        assert!(text.contains(command), "{command}: {account:#}");
        assert_eq!(account["failed_step"], "login", "{account:#}");
    };
    // No ticket: a password is wanted instead.
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("nobody to ask"), "{}", outcome.err);
    coast.ticket(&[]);
    coast.run().expect(0);
    // No such service: followed by the mend that is told.
    coast.set("service-name=HTTP/fog-bell.coast.example");
    failed("it knows no such service", "service-name=HTTP/");
    coast.set(&format!("service-name={SERVICE}"));
    coast.run().expect(0);
    // An address.
    coast.set("service-name=");
    failed("a bare IP address has no Kerberos", "service-name=HTTP/NAME.DOMAIN");
    coast.set(&format!("service-name={SERVICE}"));
    // The key of the service was changed, and the machine does not know.
    coast.realm.admin(&format!("change_password -pw another {SERVICE}"));
    std::fs::remove_file(coast.cache.trim_start_matches("FILE:")).unwrap();
    coast.ticket(&[]);
    let outcome = coast.run().expect(249);
    assert!(
        outcome.err.contains("the key is another one")
            && outcome.err.contains(&format!("setspn -Q {SERVICE}")),
        "{}",
        outcome.err
    );
    // One of the machine's own users.
    coast.set(r"user=.\keeper");
    failed("whom no realm knows", "login-by=ntlm");
}

#[test]
fn clocks_that_differ_are_told_by_the_realm_and_by_the_machine() {
    let Some(coast) = Coast::new(|spec| spec.clock_off = 900, &[]) else { return };
    coast.ticket(&[]);
    let outcome = coast.run().expect(249);
    assert!(outcome.err.contains("its clock and ours differ by too much"), "{}", outcome.err);
    assert!(outcome.err.contains("900 s ahead") || outcome.err.contains("899 s ahead"), "{}", outcome.err);
    let account = coast.check(249);
    assert_eq!(account["failed_step"], "login", "{account:#}");
}

#[test]
fn where_kerberos_is_not_to_be_had_ntlm_is_and_that_is_said() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    coast.set("service-name=HTTP/fog-bell.coast.example");
    // The password was proven to the realm, and is not asked for again.
    let outcome = coast.by_password(PASSWORD).expect(0);
    assert!(outcome.err.contains("by NTLM, not by Kerberos"), "{}", outcome.err);
    assert!(outcome.err.contains("it knows no such service"), "{}", outcome.err);
    // Nobody answers for the realm.
    coast.set("user=keeper@inland.example");
    let outcome = coast.by_password(PASSWORD).expect(0);
    assert!(outcome.err.contains("key distribution centres of INLAND.EXAMPLE"), "{}", outcome.err);
}

#[test]
fn a_ticket_to_go_on_with_is_handed_over_only_where_the_book_says_so() {
    for delegates in [false, true] {
        let setting = format!("delegate-ticket={delegates}");
        let Some(coast) = Coast::new(|_| (), &[&setting]) else { return };
        coast.ticket(&["-f"]);
        coast.run().expect(0);
        assert_eq!(coast.windows.seen().delegated, usize::from(delegates));
        // One that may not be handed on is not.
        coast.ticket(&["-F"]);
        match delegates {
            true => assert!(coast.run().err.contains("by NTLM, not by Kerberos")),
            false => drop(coast.run().expect(0)),
        }
    }
}

#[test]
fn a_password_is_typed_at_a_terminal_for_the_realm() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    let words = ["run", "chart-room", "--", "whoami"];
    let configuration = coast.realm.configuration();
    let variables = [("KRB5_CONFIG", configuration.to_str().unwrap()), ("KRB5CCNAME", &coast.cache)];
    let mut terminal = Screen::open_with(&coast.desk, support::binary(), &words, &variables);
    terminal.wait_for("Password");
    terminal.send(&format!("{PASSWORD}\r"));
    terminal.wait_for("keeper");
    assert_eq!(terminal.wait_for_exit(), 0, "{}", terminal.text());
}

#[test]
fn a_password_that_the_realm_refuses_is_shown_to_it_once_however_many_machines_there_are() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    for copy in ["log-room", "fog-bell", "tide-gauge"] {
        coast.desk.lantern(&["machine", "copy", "chart-room", copy]).expect(0);
    }
    let certificate = coast.desk.folder.path().join("certificate.der");
    for machine in ["log-room", "fog-bell", "tide-gauge"] {
        let words = ["trust", "accept", machine, "--certificate", certificate.to_str().unwrap()];
        coast.desk.lantern(&words).expect(0);
    }
    let words = ["check", "*", "--json", "--password-from", "fd:3"];
    let outcome = coast.with_password(&words, "low water");
    assert_ne!(outcome.status, 0);
    assert_eq!(coast.realm.log().matches("PREAUTH_FAILED").count(), 1, "{}", coast.realm.log());
    assert!(outcome.text().contains("not tried"), "{}", outcome.text());
    // Another one is tried, and taken.
    coast.with_password(&words, PASSWORD).expect(0);
}

#[test]
fn the_keeper_holds_no_password_that_only_a_ticket_stood_for() {
    let Some(coast) = Coast::new(|_| (), &["user=keeper@coast.example"]) else { return };
    coast.ticket(&[]);
    let remember = ["keeper", "remember", "chart-room", "--password-from", "fd:3"];
    let refused = coast.with_password(&remember, "low water").expect(249);
    assert!(refused.err.contains("the password is wrong"), "{}", refused.err);
    coast.with_password(&remember, PASSWORD).expect(0);
    // With the ticket gone, that is what lets in; another one that is refused is forgotten.
    std::fs::remove_file(coast.cache.trim_start_matches("FILE:")).unwrap();
    coast.run().expect(0);
    // A realm that cannot be asked, or does not know the machine, has refused nothing.
    coast.set("login-by=kerberos");
    coast.set("service-name=HTTP/fog-bell.coast.example");
    assert!(!coast.run().expect(249).err.contains("forgotten"));
    coast.set(&format!("service-name={SERVICE}"));
    coast.run().expect(0);
    coast.realm.admin("change_password -pw other keeper");
    let refused = coast.run().expect(249);
    assert!(refused.err.contains("it has forgotten it"), "{}", refused.err);
    let refused = coast.run().expect(249);
    assert!(refused.err.contains("nobody to ask"), "{}", refused.err);
    coast.lantern(&["keeper", "stop"]).expect(0);
}

/// What stands in for a centre: takes connections, and says this to each.
fn false_centre(says: &'static [u8]) -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            std::thread::spawn(move || {
                let _ = stream.read(&mut [0; 4096]);
                let _ = stream.write_all(says);
                // It stays, and says no more.
                let _ = stream.read(&mut [0; 4096]);
            });
        }
    });
    port
}

#[test]
fn what_answers_for_a_centre_without_being_one_is_told_as_such() {
    let windows = Windows::light(chart_room());
    let service = format!("service-name={SERVICE}");
    let desk = desk_for(&windows, &[&service, "user=keeper@coast.example", "login-by=kerberos"]);
    trust(&desk, &windows);
    let configuration = desk.folder.path().join("krb5.conf");
    let run = |port: u16| {
        let text = format!("[realms]\nCOAST.EXAMPLE = {{\nkdc = 127.0.0.1:{port}\n}}\n");
        std::fs::write(&configuration, text).unwrap();
        let file = desk.folder.path().join("password");
        std::fs::write(&file, PASSWORD).unwrap();
        let from = format!("file:{}", file.display());
        let words = ["run", "chart-room", "--no-questions", "--password-from", &from, "--", "whoami"];
        let mut command = desk.command(&words);
        let outcome: Outcome = command.env("KRB5_CONFIG", &configuration).output().unwrap().into();
        outcome.expect(249).err
    };
    // A port where nobody is; a length without end; an answer that breaks off; HTTP; nonsense; a message of another kind.
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    assert!(run(closed).contains("nothing listens on that port"));
    for (says, words) in [
        (&b"\xff\xff\xff\xff"[..], "longer than any"),
        (b"\x00\x00\x00\x20half", "no answer within"),
        (b"HTTP/1.1 400 Bad Request\r\n\r\n", "longer than any"),
        (b"\x00\x00\x00\x04none", "damaged"),
        (b"\x00\x00\x00\x04\x6d\x02\x30\x00", "damaged"),
    ] {
        let err = run(false_centre(says));
        assert!(err.contains(words), "{words}: {err}");
        assert!(err.contains("COAST.EXAMPLE"), "{err}");
    }
    assert_eq!(windows.seen().refused, 0);
}
