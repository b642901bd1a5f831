//! Whatever goes wrong is told in one line, with a documented exit code and something to do about it.

use std::io;

use std::path::Path;

use lantern_book::{BookError, Home};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey};
use lantern_link::{AuthFailure, LinkError, LoginRefused, ProxyError, TrustFailure, WinrmFailure};
use lantern_operations::check::{Account, CheckError, Failed, Finding, Line, Mark, Mend, Stage};
use lantern_operations::display::DisplayCause;
use lantern_operations::key_audit::{Problem, PublicPlace, Subject};
use lantern_operations::{ReachError, Target};
use lantern_ssh::{Disconnect, OpenFailure, PlanReport, SshError};

use super::check::{advice, report};
use super::failure::{Failure, code};
use super::{key_audit, winrm};

fn key() -> PublicKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone()
}

fn target() -> (tempfile::TempDir, Target) {
    let folder = tempfile::tempdir().unwrap();
    let book = "[machines.lamp-01]\naddress = \"192.0.2.7\"\nuser = \"keeper\"\nkey = \"harbour\"\n";
    std::fs::write(folder.path().join("machines.toml"), book).unwrap();
    let target = Target::resolve(&Home::new(folder.path().to_owned()), "lamp-01").unwrap();
    (folder, target)
}

fn auth(user: &str, report: &[(&str, &'static str)], methods: &[&str], ended: bool) -> LinkError {
    LinkError::Auth(Box::new(AuthFailure {
        machine: "lamp-01".into(),
        user: user.into(),
        methods: methods.iter().map(|method| (*method).to_owned()).collect(),
        report: report
            .iter()
            .map(|(what, outcome)| PlanReport { what: (*what).to_owned(), outcome })
            .collect(),
        not_offered: Vec::new(),
        exposed: Vec::new(),
        ended: ended.then(|| Disconnect { code: 2, description: "too many tries".into() }),
    }))
}

fn trust_failures() -> Vec<TrustFailure> {
    let machine = || "lamp-01".to_owned();
    vec![
        TrustFailure::Rejected { machine: machine(), noun: "host key" },
        TrustFailure::NoOneToAsk { machine: machine(), presented: key().into(), belongs_to: Vec::new() },
        TrustFailure::NotExpected {
            machine: machine(),
            presented: key().into(),
            expected: key().fingerprint(),
        },
        TrustFailure::KnownOnly {
            machine: machine(),
            presented: key().into(),
            belongs_to: vec!["lamp-02".into()],
        },
        TrustFailure::Revoked { machine: machine(), presented: key().into(), reason: "stolen at sea".into() },
        TrustFailure::NotInDns { machine: machine(), presented: key().into() },
        TrustFailure::Changed {
            machine: machine(),
            place: "192.0.2.7:22".into(),
            presented: key().into(),
            known: Vec::new(),
            kinship: None,
            belongs_to: vec!["lamp-02".into()],
        },
    ]
}

/// One of every kind of failure on the way to a machine, with the exit code that is documented for it.
fn failures() -> Vec<(LinkError, u8)> {
    let (place, machine) = (|| "192.0.2.7:22".to_owned(), || "lamp-01".to_owned());
    let source = || io::Error::other("so says the system");
    let refused = |code| OpenFailure { code, description: String::new() };
    let handshake = |source| LinkError::Handshake { place: place(), source };
    let mut all = vec![
        (LinkError::NameNotFound { address: "lamp.invalid".into(), source: source() }, code::NAME),
        (LinkError::NoRoute { place: place(), source: source() }, code::ROUTE),
        (LinkError::Refused { place: place() }, code::REFUSED),
        (LinkError::DialTimedOut { place: place(), seconds: 10 }, code::TIMED_OUT),
        (LinkError::Dial { place: place(), source: source() }, code::ROUTE),
        (LinkError::Proxy { proxy: place(), to: place(), source: ProxyError::LoginWanted }, code::ROUTE),
        (LinkError::Proxy { proxy: place(), to: place(), source: ProxyError::TimedOut(3) }, code::ROUTE),
        (
            LinkError::GatewayRefused {
                gateway: "gate".into(),
                to: place(),
                source: refused(OpenFailure::PROHIBITED),
            },
            code::ROUTE,
        ),
        (
            LinkError::GatewayRefused {
                gateway: "gate".into(),
                to: place(),
                source: refused(OpenFailure::CONNECT_FAILED),
            },
            code::ROUTE,
        ),
        (handshake(SshError::NotSsh { answered: "HTTP/1.1 400 Bad Request".into() }), code::PROTOCOL),
        (handshake(SshError::Busy { answered: "Exceeded MaxStartups".into() }), code::REFUSED),
        (handshake(SshError::Closed { during: "before it said what it is" }), code::PROTOCOL),
        (handshake(SshError::Closed { during: "during the key exchange" }), code::PROTOCOL),
        (handshake(SshError::TimedOut { seconds: 30, during: "during the key exchange" }), code::TIMED_OUT),
        (handshake(SshError::MacMismatch), code::PROTOCOL),
        (handshake(SshError::HostKeyRejected), code::TRUST),
        (handshake(SshError::HostKeyChanged { now: key().fingerprint() }), code::TRUST),
        (
            auth("keeper", &[("key harbour (SHA256:x)", "refused by the server")], &["publickey"], false),
            code::LOGIN,
        ),
        (
            auth(
                "root",
                &[("key harbour (SHA256:x)", "refused by the server")],
                &["publickey", "password"],
                false,
            ),
            code::LOGIN,
        ),
        (auth("keeper", &[], &[], false), code::LOGIN),
        (
            auth(
                "keeper",
                &[("key harbour (SHA256:x)", "locked: no passphrase was given")],
                &["publickey"],
                false,
            ),
            code::LOGIN,
        ),
        (
            auth(
                "keeper",
                &[("key harbour (SHA256:x)", "accepted, but more is needed")],
                &["password"],
                false,
            ),
            code::LOGIN,
        ),
        (
            auth(
                "keeper",
                &[("key a (x)", "refused by the server"), ("key b (y)", "refused by the server")],
                &["publickey"],
                true,
            ),
            code::LOGIN,
        ),
        (
            LinkError::ChannelRefused { machine: machine(), source: refused(OpenFailure::PROHIBITED) },
            code::SESSION,
        ),
        (LinkError::RequestRefused { machine: machine(), request: "exec" }, code::SESSION),
        (LinkError::Unanswered { machine: machine(), what: "a session", seconds: 60 }, code::TIMED_OUT),
        (LinkError::Lost { machine: machine(), source: SshError::MacMismatch }, code::LOST),
        (
            LinkError::Gateway {
                gateway: "gate".into(),
                source: Box::new(LinkError::Refused { place: place() }),
            },
            code::REFUSED,
        ),
    ];
    all.extend(trust_failures().into_iter().map(|trust| (LinkError::Trust(Box::new(trust)), code::TRUST)));
    all
}

fn is_one_line(text: &str) -> bool {
    !text.trim().is_empty() && !text.contains(char::is_control)
}

#[test]
fn every_failure_has_its_exit_code_one_line_and_something_to_do() {
    for (error, expected) in failures() {
        let words = format!("{error:?}");
        // A person said no, and knows it; what was lost is no longer there to be looked at.
        let needs_no_hint = matches!(&error, LinkError::Trust(trust) if matches!(**trust, TrustFailure::Rejected { .. }))
            || matches!(
                &error,
                LinkError::Lost { .. }
                    | LinkError::Dial { .. }
                    | LinkError::ChannelRefused { .. }
                    | LinkError::RequestRefused { .. }
                    | LinkError::Handshake { source: SshError::MacMismatch | SshError::TimedOut { .. }, .. }
                    | LinkError::Handshake {
                        source: SshError::HostKeyRejected | SshError::HostKeyChanged { .. },
                        ..
                    }
            );
        let failure = Failure::from(error);
        assert_eq!(failure.code, expected, "{words}");
        assert!(code::TABLE.iter().any(|(code, _)| *code == failure.code), "{words}");
        assert!(is_one_line(&failure.headline), "{words}: {:?}", failure.headline);
        assert!(needs_no_hint || !failure.hints.is_empty(), "{words}: nothing to do");
        assert!(failure.details.iter().chain(&failure.hints).all(|line| is_one_line(line)), "{failure:?}");
    }
}

/// What a check says of each: a sentence, the next command, and the exit code that `run` would have.
#[test]
fn every_failed_step_ends_in_a_sentence_and_a_command() {
    for gateway in [None, Some("gate".to_owned())] {
        for (error, expected) in failures() {
            let words = format!("{error:?}");
            let (_folder, target) = target();
            let error = CheckError::Way(error);
            let failed_line = Line {
                stage: Stage::Login,
                gateway: gateway.clone(),
                mark: Mark::Failed,
                saw: error.headline(),
                took: None,
                finding: None,
            };
            let account = Account {
                machine: "lamp-01".into(),
                place: target.place(),
                target: Some(target),
                lines: vec![failed_line],
                failed: Some(Failed { stage: Stage::Login, gateway: gateway.clone(), error }),
                ..Account::default()
            };
            let end = advice::conclusion(&account);
            assert!(is_one_line(&end.sentence) && is_one_line(&end.command), "{words}: {}", end.sentence);
            assert_eq!(report::rank(&account).1, expected, "{words}");
            let lines = advice::of_line(&account.lines[0], &account);
            assert!(!lines.is_empty() && lines.iter().all(|line| is_one_line(line)), "{words}: {lines:?}");
            let (state, detail) = report::state(&account);
            assert!(state.starts_with("FAILED login") && detail.chars().count() <= 49, "{state} {detail}");
            assert_eq!(state.ends_with(" of gate"), gateway.is_some());
        }
    }
}

/// The user that was tried is the one that the next command is about.
#[test]
fn advice_about_a_login_is_about_the_user_who_was_tried() {
    let (_folder, target) = target();
    let command = |user: &str| {
        let error = auth(user, &[("key harbour (SHA256:x)", "refused by the server")], &["password"], false);
        let failed = Failed { stage: Stage::Login, gateway: None, error: CheckError::Way(error) };
        let account = Account {
            machine: "lamp-01".into(),
            target: Some(target.clone()),
            failed: Some(failed),
            ..Account::default()
        };
        advice::conclusion(&account).command
    };
    assert_eq!(command("keeper"), "lantern key install harbour lamp-01");
    assert_eq!(command("root"), "lantern key install harbour lamp-01 --user root");
}

#[test]
fn what_is_questionable_says_what_to_do() {
    let (_folder, target) = target();
    let findings = [
        Finding::NotEnough { what: "key harbour".into(), outcome: "refused by the server".into() },
        Finding::Clock,
        Finding::NotForwarded(vec!["agent".into(), "display".into()]),
        Finding::Mendable(Mend::Narrow("/home/a b/x.key".into(), 0o600)),
        Finding::Mendable(Mend::RemoveSocket("/run/keeper.sock".into())),
        Finding::NoKeeper,
        Finding::PortTaken { tunnel: "console".into(), form: "local 8443 to 127.0.0.1:443".into() },
        Finding::Display(DisplayCause::Unnamed),
        Finding::Display(DisplayCause::NotThere),
        Finding::Display(DisplayCause::NotLetIn { has_cookie: false }),
        Finding::Display(DisplayCause::NoSecurity),
        Finding::NoCookieHelper,
    ];
    for finding in findings {
        let line = Line {
            stage: Stage::Local,
            gateway: None,
            mark: Mark::Doubt,
            saw: "something is amiss".into(),
            took: None,
            finding: Some(finding.clone()),
        };
        let account = Account {
            machine: "lamp-01".into(),
            target: Some(target.clone()),
            lines: vec![line.clone(), line.clone()],
            ..Account::default()
        };
        let lines = advice::of_line(&line, &account);
        assert!(!lines.is_empty() && lines.iter().all(|line| is_one_line(line)), "{finding:?}");
        let end = advice::conclusion(&account);
        assert_eq!(end.sentence, "lamp-01 can be reached, but: something is amiss (and 1 more).");
        assert_eq!(Some(&end.command), lines.last());
        assert_eq!(report::rank(&account), (1, 1));
    }
    let narrow = advice::mend_command(&Mend::Narrow("/home/a b/x.key".into(), 0o600));
    assert_eq!(narrow, "chmod 0600 '/home/a b/x.key'");
    let well = Account { machine: "lamp-01".into(), target: Some(target), ..Account::default() };
    assert_eq!(advice::conclusion(&well).sentence, "lamp-01 is well.");
    assert_eq!(report::rank(&well), (0, 0));
}

#[test]
fn what_the_book_gets_wrong_is_told_with_what_mends_it() {
    let cases = [
        (
            ReachError::NoAddress { machine: "buoy".into() },
            code::LOCAL,
            "lantern machine set buoy address=ADDRESS",
        ),
        (ReachError::NoUser, code::USAGE, "--user"),
        (ReachError::Winrm { machine: "tide-gauge".into() }, code::USAGE, "protocol=ssh"),
        (ReachError::Proxy { text: "x".into(), rule: "is none", typed: false }, code::LOCAL, "machine edit"),
    ];
    for (error, expected, hint) in cases {
        let failure = Failure::from(&error);
        assert_eq!(failure.code, expected, "{error}");
        assert!(failure.hints.iter().any(|line| line.contains(hint)), "{:?}", failure.hints);
    }
    for (what, mend) in [
        ("machine", "lantern machine add lamp-99"),
        ("key", "lantern key list"),
        ("profile", "lantern profile list"),
        ("tag", "lantern machine list --columns name,tags"),
        ("field", "lantern machine set --fields"),
    ] {
        let unknown = BookError::Unknown { what, name: "lamp-99".into(), nearest: None };
        assert!(Failure::from(unknown).hints.iter().any(|hint| hint.contains(mend)), "{what}");
    }
}

/// Of every problem in every place: words, and a command that is about that key and no other. Where a copy is the one that stays, nothing says to
/// remove it.
#[test]
fn every_problem_of_a_key_has_words_and_a_mend() {
    let problems = [
        Problem::Broken { why: "it is cut".into() },
        Problem::Exposed { mode: 0o644 },
        Problem::NoPassphrase,
        Problem::WeakProtection { how: "one MD5".into() },
        Problem::WeakAlgorithm { why: "DSA".into() },
        Problem::Misplaced(PublicPlace::PublicFile),
        Problem::Misplaced(PublicPlace::LoginList),
        Problem::ShortKey { what: "RSA 2048".into() },
        Problem::Old { days: 730 },
        Problem::Replaced { by: "harbour-2".into(), in_use: vec!["lamp-01".into()] },
        Problem::Replaced { by: "harbour-2".into(), in_use: Vec::new() },
        Problem::Unused,
        Problem::OtherHalf { public: "/tmp/a b.pub".into() },
        Problem::Foreign { what: "a private key as a JWK".into(), why: "write it", is_open: true },
        Problem::Foreign { what: "an archive".into(), why: "take it out", is_open: false },
        Problem::Duplicate { others: vec!["a".into()], is_spare: false, in_ring: true },
        Problem::Duplicate { others: vec!["a".into()], is_spare: false, in_ring: false },
        Problem::Unreadable { why: "closed".into() },
    ];
    let spare = Problem::Duplicate { others: vec!["a".into()], is_spare: true, in_ring: false };
    let path = Path::new("/tmp/a b.pem");
    for (is_spare, subject) in [
        (false, Subject::in_ring("harbour", path.to_owned(), None, problems.to_vec())),
        (false, Subject::in_file(path, true, problems.to_vec())),
        (false, Subject::in_file(path, false, problems.to_vec())),
        (true, Subject::in_file(path, true, [std::slice::from_ref(&spare), problems.as_slice()].concat())),
    ] {
        for problem in &problems {
            assert!(is_one_line(key_audit::short(problem)) && is_one_line(&key_audit::detail(problem)));
            let mend = key_audit::mend(problem, &subject);
            assert!(is_one_line(&mend), "{problem:?}");
            assert!(!mend.contains("/tmp/a b.pem") || mend.contains("'/tmp/a b.pem'"), "{mend}");
            // A plan removes nothing, and --move nothing that is not proven to be in the ring.
            assert!(is_spare || !mend.starts_with("rm "), "{mend}");
            assert!(!mend.contains("remove") || mend.ends_with(" --plan"), "{mend}");
            assert!(subject.is_alone || !mend.contains("--move"), "{mend}");
        }
    }
}

/// What a machine calls itself comes before any login: whoever copies the advice runs nothing of it.
#[test]
fn no_name_that_a_machine_gives_itself_gets_into_a_command() {
    let (_folder, target) = target();
    let advice = |domain: &str| {
        let refused = LoginRefused {
            machine: "chart-room".into(),
            user: "keeper".into(),
            by: "NTLM",
            computer: Some(("CHART-ROOM".into(), domain.into())),
            ..LoginRefused::default()
        };
        winrm::advise(&WinrmFailure::Refused(Box::new(refused)), "chart-room", Some(&target)).command
    };
    assert_eq!(advice("COAST"), r"lantern machine set chart-room 'user=COAST\keeper'");
    for hostile in ["x'; reboot #", "$(reboot)", "`reboot`", "a b", "x\ny", "", "-x", &"x".repeat(300)] {
        let command = advice(hostile);
        assert!(hostile.is_empty() || !command.contains(hostile), "{command}");
    }
}
