//! The check of machines: every step in order, the first that fails, and what is amiss on this computer.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod desk;

use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use desk::{Scene, Script, any_way, on_this_thread, password};
use lantern_book::{MachineBook, TrustStore};
use lantern_harbour::{Fault, Harbour, LoginRule, MachineSpec, UserSpec};
use lantern_keys::{KeyAlgorithm, PrivateKey};
use lantern_link::{LinkError, Nobody, TrustFailure};
use lantern_operations::check::{
    Account, CheckError, CheckOptions, Finding, Mark, Mend, Progress, Stage, check_many, check_one,
};
use lantern_operations::display::{DisplayCause, DisplaySurroundings};
use lantern_operations::{ReachError, ReachOptions};

async fn check(scene: &Scene) -> Account {
    check_by(scene, "lamp-01", Arc::new(Nobody), &CheckOptions::default()).await
}

async fn check_by(
    scene: &Scene,
    typed: &str,
    ask: Arc<dyn lantern_link::Ask>,
    options: &CheckOptions,
) -> Account {
    check_one(&scene.home, typed, options, ask, Box::new(|_| {})).await
}

fn stages(account: &Account) -> Vec<Stage> {
    account.lines.iter().map(|line| line.stage).collect()
}

fn failed_at(account: &Account) -> (Stage, &CheckError) {
    let failed = account.failed.as_ref().unwrap_or_else(|| panic!("nothing failed: {account:?}"));
    let line = account.failed_line().expect("no line of the failure");
    assert_eq!(
        (line.stage, line.mark, line.saw.as_str()),
        (failed.stage, Mark::Failed, &*failed.error.headline())
    );
    (failed.stage, &failed.error)
}

#[test]
fn a_machine_that_is_well_is_walked_to_its_end_and_told_step_by_step() {
    on_this_thread(async {
        let scene = Scene::like(|spec, key| spec.users[0].keys.push(key)).await;
        let told = Arc::new(Mutex::new(Vec::new()));
        let hear = told.clone();
        let tell = Box::new(move |account: &Account| hear.lock().unwrap().push(account.lines.len()));
        let account =
            check_one(&scene.home, "lamp-01", &CheckOptions::default(), Arc::new(Nobody), tell).await;
        use Stage::*;
        let expected = [
            Book,
            Port,
            Identification,
            Algorithms,
            HostKey,
            Methods,
            Login,
            Session,
            Shell,
            Clock,
            Files,
            Forwarding,
            Local,
        ];
        assert_eq!(stages(&account), expected, "{account:#?}");
        assert!(account.is_well() && account.failed.is_none());
        assert_eq!((account.severity(), account.latest_step()), (0, Local));
        assert_eq!(account.place, scene.target().place());
        // Each line as it came, and the whole at the end.
        let told = told.lock().unwrap();
        assert_eq!(told[..13], (1..=13).collect::<Vec<_>>(), "{told:?}");
        assert_eq!(told.last(), Some(&13));
    });
}

#[test]
fn nothing_is_trusted_asked_or_changed() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        TrustStore::forget(&scene.home, "lamp-01").unwrap();
        let before = std::fs::read(scene.home.path().join("trust.toml")).unwrap();
        let ask = Arc::new(Script::new([password()]));
        let account = check_by(&scene, "lamp-01", ask.clone(), &CheckOptions::default()).await;
        let (stage, error) = failed_at(&account);
        assert_eq!(stage, Stage::HostKey);
        let CheckError::Way(LinkError::Trust(trust)) = error else { panic!("{error:?}") };
        assert!(matches!(**trust, TrustFailure::NoOneToAsk { .. }));
        assert_eq!(ask.asked(), 0, "{:?}", ask.asked);
        assert_eq!(std::fs::read(scene.home.path().join("trust.toml")).unwrap(), before);
    });
}

/// Whatever fails is told at its own step, and nothing behind it is.
#[test]
fn each_fault_is_found_at_its_step() {
    on_this_thread(async {
        for (fault, expected) in [
            (Fault::Closed, Stage::Port),
            (Fault::OtherService("HTTP/1.1 400 Bad Request\r\n\r\n"), Stage::Identification),
            (Fault::CutAfter(0), Stage::Identification),
            (Fault::CutAfter(60), Stage::Algorithms),
            (Fault::CorruptAt(1_800), Stage::Methods),
        ] {
            let scene = Scene::like(|spec, key| {
                spec.users[0].keys.push(key);
                spec.fault = Some(fault.clone());
            })
            .await;
            let account = check(&scene).await;
            let (stage, error) = failed_at(&account);
            assert!(matches!(error, CheckError::Way(_)), "{fault:?}: {error:?}");
            // Where a flipped bit is met depends on what it hits.
            match fault {
                Fault::CorruptAt(_) => assert!(stage > Stage::Identification, "{fault:?}: {account:#?}"),
                _ => assert_eq!(stage, expected, "{fault:?}: {account:#?}"),
            }
            let behind = account.lines.iter().filter(|line| line.stage > stage && line.stage != Stage::Local);
            assert_eq!(behind.count(), 0, "{fault:?}: {account:#?}");
        }
    });
}

#[test]
fn a_machine_that_falls_silent_is_not_waited_for_and_the_step_is_named() {
    on_this_thread(async {
        let mut found = Vec::new();
        for bytes in [0, 1_500, 2_600] {
            let scene = Scene::like(|spec, key| {
                spec.users[0].keys.push(key);
                spec.fault = Some(if bytes == 0 { Fault::Silent } else { Fault::StallAfter(bytes) });
            })
            .await;
            let mut options = CheckOptions::default();
            options.reach.limits.handshake = Some(Duration::from_millis(300));
            options.reach.limits.login = Some(Duration::from_millis(300));
            let account = check_by(&scene, "lamp-01", Arc::new(Nobody), &options).await;
            found.push(failed_at(&account).0);
        }
        assert!(found.is_sorted() && found[0] == Stage::Identification, "{found:?}");
        assert!(found[2] > Stage::Algorithms, "{found:?}");
    });
}

#[test]
fn what_the_book_lacks_fails_before_the_network_is_bothered() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let account = check_by(&scene, "lamp-99", Arc::new(Nobody), &CheckOptions::default()).await;
        assert!(matches!(failed_at(&account), (Stage::Book, CheckError::Entry(ReachError::Book(_)))));
        assert!(account.target.is_none());
        let options = CheckOptions {
            reach: ReachOptions { proxy: Some("gopher://x".into()), ..ReachOptions::default() },
            ..CheckOptions::default()
        };
        let account = check_by(&scene, "lamp-01", Arc::new(Nobody), &options).await;
        let (stage, error) = failed_at(&account);
        assert!(matches!(error, CheckError::Entry(ReachError::Proxy { typed: true, .. })), "{error:?}");
        assert_eq!((stage, account.lines.len()), (Stage::Book, 1));
        // A key that is named and not there.
        scene.add_to_book("key = \"quay\"");
        let account = check(&scene).await;
        assert!(matches!(failed_at(&account), (Stage::Book, CheckError::Key(_))));
        // With another one it is no matter.
        let options = CheckOptions {
            reach: ReachOptions {
                keys: Some(lantern_link::KeyChoice::Named(vec!["pier".into()])),
                ..ReachOptions::default()
            },
            ..CheckOptions::default()
        };
        let account = check_by(&scene, "lamp-01", Arc::new(Nobody), &options).await;
        assert_eq!(failed_at(&account).0, Stage::Login);
    });
}

/// What was offered is told once each, with what came of it.
#[test]
fn a_refused_login_says_what_was_offered() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let account = check(&scene).await;
        let (stage, error) = failed_at(&account);
        assert!(stage == Stage::Login && matches!(error, CheckError::Way(LinkError::Auth(_))), "{error:?}");
        let offered: Vec<&str> = account
            .lines
            .iter()
            .filter_map(|line| match &line.finding {
                Some(Finding::NotEnough { what, .. }) => Some(what.as_str()),
                _ => None,
            })
            .collect();
        let keys: Vec<&&str> = offered.iter().filter(|what| what.starts_with("key ")).collect();
        assert_eq!(keys.len(), 2, "{offered:?}");
        let mut once = offered.clone();
        once.dedup();
        assert_eq!(once, offered);
        // A password that was handed over is tried.
        let ask = Script { has_password: true, ..Script::new([password()]) };
        let account = check_by(&scene, "lamp-01", Arc::new(ask), &CheckOptions::default()).await;
        assert!(account.failed.is_none(), "{account:#?}");
    });
}

/// The password that was handed over is the machine's: a gateway on the way that asks for one does not get it.
#[test]
fn a_gateway_gets_no_password_of_the_machine_behind_it() {
    on_this_thread(async {
        let scene = Scene::new(any_way()).await;
        let mut gate = MachineSpec::new("harbour-gate", 2).unwrap();
        gate.users = vec![UserSpec::new("keeper", Some("low visibility"), vec![])];
        gate.users[0].rule = LoginRule::AnyOf(vec!["password"]);
        let host_key = gate.host_keys[0].public().clone();
        let harbour = Harbour::light(vec![gate]).await.unwrap();
        let at = harbour.machines()[0].address;
        let (verified, now) = (lantern_book::Verified::Expected, jiff::Timestamp::now());
        TrustStore::accept(&scene.home, "harbour-gate", &at.to_string(), &host_key, verified, now).unwrap();
        scene.add_to_book(&format!(
            "gateway = \"harbour-gate\"\n[machines.harbour-gate]\naddress = \"{}\"\nport = {}\nuser = \"keeper\"",
            at.ip(),
            at.port()
        ));
        MachineBook::load(&scene.home).unwrap().check().unwrap();
        let ask = Arc::new(Script { has_password: true, ..Script::new([password()]) });
        let account = check_by(&scene, "lamp-01", ask.clone(), &CheckOptions::default()).await;
        assert_eq!(failed_at(&account).0, Stage::Login);
        assert_eq!(account.failed.as_ref().unwrap().gateway.as_deref(), Some("harbour-gate"));
        assert_eq!(ask.asked(), 0, "{:?}", ask.asked);
    });
}

#[test]
fn many_are_checked_at_once_and_come_back_in_order() {
    on_this_thread(async {
        let scene = Scene::like(|spec, key| spec.users[0].keys.push(key)).await;
        let names: Vec<String> =
            (0..60).map(|n| if n % 7 == 3 { format!("missing-{n}") } else { "lamp-01".into() }).collect();
        let heard = Arc::new(Mutex::new(vec![(0, 0); names.len()]));
        let hear = heard.clone();
        let on_progress = move |index: usize, progress: Progress<'_>| {
            let counts = &mut hear.lock().unwrap()[index];
            match progress {
                Progress::At(_) => counts.0 += 1,
                Progress::Done(_) => counts.1 += 1,
            }
        };
        let options = CheckOptions::default();
        let accounts = check_many(&scene.home, &names, &options, Arc::new(Nobody), on_progress).await;
        assert_eq!(accounts.len(), names.len());
        for (name, account) in names.iter().zip(&accounts) {
            assert_eq!(&account.machine, name);
            assert_eq!(account.failed.is_none(), name == "lamp-01", "{account:#?}");
        }
        assert!(heard.lock().unwrap().iter().all(|(at, done)| *at > 0 && *done == 1));
    });
}

/// Dropped, a check of many gives up every connection that it has.
#[test]
fn a_check_that_is_dropped_goes_on_with_nothing() {
    on_this_thread(async {
        let scene = Scene::like(|spec, _| spec.fault = Some(Fault::Silent)).await;
        let names = vec!["lamp-01".to_owned(); 8];
        let options = CheckOptions::default();
        let counter = Arc::new(());
        let held = counter.clone();
        let on_progress = move |_: usize, _: Progress<'_>| drop(held.clone());
        let checking = check_many(&scene.home, &names, &options, Arc::new(Nobody), on_progress);
        assert!(tokio::time::timeout(Duration::from_millis(100), checking).await.is_err());
        while Arc::strong_count(&counter) > 1 {
            tokio::task::yield_now().await;
        }
    });
}

#[test]
fn what_is_amiss_here_is_found_and_can_be_mended() {
    on_this_thread(async {
        let scene = Scene::like(|spec, key| spec.users[0].keys.push(key)).await;
        let entry = scene.entry("harbour");
        std::fs::set_permissions(&entry.path, std::fs::Permissions::from_mode(0o644)).unwrap();
        let socket = scene.home.path().join("keeper.sock");
        drop(UnixListener::bind(&socket).unwrap());
        let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = taken.local_addr().unwrap().port();
        scene.add_to_book(&format!(
            "forward-display = true\ntunnels = {{ console = \"local {port} to 127.0.0.1:443\" }}"
        ));
        // A key that others can read is not offered, unless somebody says so.
        let mut options = CheckOptions { keeper: Some(socket.clone()), ..CheckOptions::default() };
        let account = check_by(&scene, "lamp-01", Arc::new(Nobody), &options).await;
        let exposed = match account.failed.map(|failed| failed.error) {
            Some(CheckError::Way(LinkError::Auth(auth))) => auth.exposed,
            other => panic!("{other:?}"),
        };
        assert_eq!(exposed, [(entry.path.clone(), 0o644)]);
        options.reach.even_exposed = true;
        let account = check_by(&scene, "lamp-01", Arc::new(Nobody), &options).await;
        assert!(account.failed.is_none() && !account.is_well() && account.severity() == 1, "{account:#?}");
        let findings: Vec<&Finding> = account
            .lines
            .iter()
            .filter(|line| line.stage == Stage::Local)
            .filter_map(|line| line.finding.as_ref())
            .collect();
        let narrow = Mend::Narrow(entry.path.clone(), 0o600);
        let remove = Mend::RemoveSocket(socket.clone());
        assert!(
            matches!(
                findings.as_slice(),
                [
                    Finding::Mendable(Mend::Narrow(..)),
                    Finding::Mendable(Mend::RemoveSocket(_)),
                    Finding::Display(DisplayCause::Unnamed),
                    Finding::PortTaken { .. }
                ]
            ),
            "{findings:?}"
        );
        assert_eq!(account.mends().collect::<Vec<_>>(), [&narrow, &remove]);
        for mend in account.mends() {
            mend.carry_out().unwrap();
        }
        drop(taken);
        let options = CheckOptions {
            display: DisplaySurroundings { name: Some(":59000".into()), authority: "/nowhere".into() },
            ..options
        };
        let account = check_by(&scene, "lamp-01", Arc::new(Nobody), &options).await;
        assert_eq!(account.mends().count(), 0, "{account:#?}");
        let doubts: Vec<Option<Finding>> = account.doubts().map(|line| line.finding.clone()).collect();
        // What the simulated machine does not forward, and a display that does not answer.
        assert!(doubts.contains(&Some(Finding::Display(DisplayCause::NotThere))), "{doubts:?}");
    });
}

/// A host key that was exchanged is told as that, whatever else is wrong.
#[test]
fn a_changed_host_key_stops_the_walk() {
    on_this_thread(async {
        let scene = Scene::like(|spec, key| spec.users[0].keys.push(key)).await;
        TrustStore::forget(&scene.home, "lamp-01").unwrap();
        let other = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
        let (place, verified) = (scene.target().place(), lantern_book::Verified::Expected);
        TrustStore::accept(&scene.home, "lamp-01", &place, other.public(), verified, jiff::Timestamp::now())
            .unwrap();
        let account = check(&scene).await;
        let (stage, error) = failed_at(&account);
        let CheckError::Way(LinkError::Trust(trust)) = error else { panic!("{error:?}") };
        assert!(stage == Stage::HostKey && matches!(**trust, TrustFailure::Changed { .. }), "{trust:?}");
    });
}
