//! From what was typed to what is connected to: names, one-offs, options, gateways, proxies, and what goes before what.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::time::Duration;

use lantern_book::{Home, TrustStore, Verified};
use lantern_keys::{KeyAlgorithm, PrivateKey};
use lantern_link::{KeyChoice, TrustPolicy};
use lantern_operations::{LimitOptions, ReachError, ReachOptions, Target};

const BOOK: &str = r#"
[defaults]
user = "keeper"
connect-limit = 4

[profiles.coast]
key = "harbour"
gateway = "harbour-gate"
trust = "known-only"

[machines.harbour-gate]
address = "203.0.113.1"
gateway = "quay"
key = "gate"
user = "porter"

[machines.quay]
address = ["quay.example", "203.0.113.9"]
port = 2200
proxy = "http://proxy.example:3128"

[machines.lamp-01]
address = "10.20.0.5"
profiles = ["coast"]
tunnels = { console = "local 8443 to 127.0.0.1:443" }
environment = { LAMP = "green" }

[machines.tide-gauge]
address = "192.0.2.9"
protocol = "winrm"

[machines.buoy]
user = "nobody"
"#;

fn home() -> (tempfile::TempDir, Home) {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("machines.toml"), BOOK).unwrap();
    let home = Home::new(folder.path().to_owned());
    (folder, home)
}

fn names(target: &Target) -> Vec<&str> {
    target.via.iter().map(|gateway| gateway.name.as_str()).collect()
}

#[test]
fn what_the_book_says_is_put_together_gateways_first() {
    let (_folder, home) = home();
    let target = Target::resolve(&home, "lamp-01").unwrap();
    assert_eq!((target.place().as_str(), target.user.as_deref()), ("10.20.0.5:22", Some("keeper")));
    assert_eq!(names(&target), ["quay", "harbour-gate"]);
    // Only what is dialed can be behind a proxy, and each gateway has its own user, key and port.
    assert!(target.proxy.is_none() && target.via[1].proxy.is_none());
    assert_eq!(target.via[0].proxy.as_ref().unwrap().place(), "proxy.example:3128");
    assert_eq!((target.via[0].port, target.via[1].user.as_deref()), (2200, Some("porter")));
    assert_eq!(target.session.environment.get("LAMP").map(String::as_str), Some("green"));
    let options = ReachOptions::default();
    let request = target.request(&home, &options, target.keys(&options), false).unwrap();
    assert!(matches!(&request.keys, KeyChoice::Named(names) if names == &["harbour"]));
    assert!(matches!(&request.via[0].keys, KeyChoice::Ring));
    assert!(matches!(&request.via[1].keys, KeyChoice::Named(names) if names == &["gate"]));
    assert_eq!((request.trust, request.limits.connect), (TrustPolicy::KnownOnly, Duration::from_secs(4)));
    // The same private address behind another gateway is another place.
    assert_eq!(request.trust_place(), "10.20.0.5:22 via harbour-gate");
    assert!(request.via.iter().all(|gateway| gateway.via.is_empty()));
}

#[test]
fn options_go_before_the_book_and_touch_the_machine_alone() {
    let (_folder, home) = home();
    let target = Target::resolve(&home, "lamp-01").unwrap();
    let options = ReachOptions {
        user: Some("admin".into()),
        keys: Some(KeyChoice::Nothing),
        limits: LimitOptions {
            connect: Some(Duration::from_secs(60)),
            dead_after: Some(Duration::ZERO),
            ..LimitOptions::default()
        },
        ..ReachOptions::default()
    };
    let request = target.request(&home, &options, target.keys(&options), true).unwrap();
    assert_eq!((request.user.as_str(), request.keys_only), ("admin", true));
    assert!(matches!(request.keys, KeyChoice::Nothing));
    assert_eq!((request.limits.connect, request.limits.dead_after), (Duration::from_secs(60), None));
    // The gateways keep their own users and keys, and are allowed other ways in.
    assert_eq!((request.via[0].user.as_str(), request.via[1].user.as_str()), ("keeper", "porter"));
    assert!(request.via.iter().all(|gateway| !gateway.keys_only && gateway.expect.is_none()));
    // Gateways that are named take the place of the book's, with their own way in front of them.
    let options = ReachOptions {
        gateways: vec!["harbour-gate".into(), "porter@198.51.100.4:2022".into()],
        proxy: Some("socks5://127.0.0.1:1080".into()),
        ..ReachOptions::default()
    };
    let target = target.with_options(&home, &options).unwrap();
    assert_eq!(names(&target), ["quay", "harbour-gate", "198.51.100.4:2022"]);
    assert_eq!(target.via[0].proxy.as_ref().unwrap().place(), "127.0.0.1:1080");
    assert_eq!((target.via[2].port, target.via[2].user.as_deref()), (2022, Some("porter")));
}

#[test]
fn the_user_comes_from_the_nearest_that_says_one() {
    let (_folder, home) = home();
    let image = |word: &str| ReachOptions { image: Some(word.into()), ..ReachOptions::default() };
    let known = lantern_book::IMAGES.iter().find(|image| image.users.first() != Some(&"keeper")).unwrap();
    let target = Target::resolve(&home, "lamp-01").unwrap();
    let mut options = ReachOptions { local_user: Some("me".into()), ..image(known.name) };
    assert_eq!(target.user(&options).unwrap(), known.users[0]);
    options.user = Some("admin".into());
    assert_eq!(target.user(&options).unwrap(), "admin");
    options = ReachOptions { local_user: Some("me".into()), ..image("no such image") };
    assert_eq!(target.user(&options).unwrap(), "keeper");
    // Without a word of the book it is who we are here, and else nobody.
    std::fs::write(home.path().join("machines.toml"), "").unwrap();
    let target = Target::resolve(&home, "192.0.2.7:22").unwrap();
    assert_eq!(target.user(&options).unwrap(), "me");
    assert!(matches!(target.user(&ReachOptions::default()), Err(ReachError::NoUser)));
    let request = target.request(&home, &ReachOptions::default(), KeyChoice::Ring, false);
    assert!(matches!(request, Err(ReachError::NoUser)));
}

/// A one-off is the machine that was met at its place, so that its trust is found again.
#[test]
fn a_one_off_is_known_by_its_place() {
    let (_folder, home) = home();
    let target = Target::resolve(&home, "admin@192.0.2.7:2222").unwrap();
    assert_eq!((target.name.as_str(), target.user.as_deref()), ("192.0.2.7:2222", Some("admin")));
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    let now = jiff::Timestamp::now();
    TrustStore::accept(&home, "foghorn", "192.0.2.7:2222", key.public(), Verified::Pasted, now).unwrap();
    let target = Target::resolve(&home, "ssh://192.0.2.7:2222").unwrap();
    assert_eq!((target.name.as_str(), target.user.as_deref()), ("foghorn", Some("keeper")));
    let v6 = Target::resolve(&home, "keeper@[2001:db8::7]:2222").unwrap();
    assert_eq!((v6.name.as_str(), v6.addresses[0].as_str()), ("[2001:db8::7]:2222", "2001:db8::7"));
}

#[test]
fn what_cannot_be_reached_says_why() {
    let (_folder, home) = home();
    assert!(matches!(Target::resolve(&home, "lamp-99"), Err(ReachError::Book(_))));
    assert!(
        matches!(Target::resolve(&home, "buoy"), Err(ReachError::NoAddress { machine }) if machine == "buoy")
    );
    for slip in ["", "-x", "a b", "ftp://x", "x:99999", "@x"] {
        assert!(matches!(Target::resolve(&home, slip), Err(ReachError::Book(_))), "{slip}");
    }
    let windows = Target::resolve(&home, "tide-gauge").unwrap();
    let refused = windows.request(&home, &ReachOptions::default(), KeyChoice::Ring, false);
    assert!(matches!(refused, Err(ReachError::Winrm { machine }) if machine == "tide-gauge"));
    // Also as a gateway on the way.
    let target = Target::resolve(&home, "quay").unwrap();
    let through = ReachOptions { gateways: vec!["tide-gauge".into()], ..ReachOptions::default() };
    assert!(matches!(target.request(&home, &through, KeyChoice::Ring, false), Err(ReachError::Winrm { .. })));
    for (gateway, proxy) in
        [(Some("lamp-99"), None), (None, Some("gopher://x")), (None, Some("http://a:secret@x"))]
    {
        let options = ReachOptions {
            gateways: gateway.into_iter().map(str::to_owned).collect(),
            proxy: proxy.map(str::to_owned),
            ..ReachOptions::default()
        };
        let error = target.request(&home, &options, KeyChoice::Ring, false).unwrap_err();
        assert!(!format!("{error} {error:?}").contains("secret"), "{error:?}");
    }
    // A way that goes in a circle is met before anything is dialed.
    let text = BOOK.replace("[machines.quay]", "[machines.quay]\ngateway = \"lamp-01\"");
    std::fs::write(home.path().join("machines.toml"), text).unwrap();
    let circle = Target::resolve(&home, "lamp-01").unwrap_err().to_string();
    assert!(circle.contains("lamp-01") && circle.contains("quay"), "{circle}");
}

/// The same private address behind two gateways is two machines, each with its own record.
#[test]
fn a_private_address_is_another_behind_another_gateway() {
    let (_folder, home) = home();
    let one_off = Target::resolve(&home, "keeper@10.20.0.5:22").unwrap();
    let behind = |gateway: &str| {
        let options = ReachOptions { gateways: vec![gateway.into()], ..ReachOptions::default() };
        let target = one_off.clone().with_options(&home, &options).unwrap();
        let request = target.request(&home, &options, KeyChoice::Ring, false).unwrap();
        assert_eq!(request.machine, target.name);
        (target.name, request.trust_place())
    };
    let (one, other) = (behind("quay"), behind("porter@198.51.100.4:2022"));
    assert_eq!(one, ("10.20.0.5:22 via quay".into(), "10.20.0.5:22 via quay".into()));
    assert_eq!(other.0, "10.20.0.5:22 via 198.51.100.4:2022");
    assert_eq!(one_off.name, "10.20.0.5:22");
    // What one proved to be says nothing of the other, nor of the one that is here.
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    let now = jiff::Timestamp::now();
    TrustStore::accept(&home, "foghorn", &one.1, key.public(), Verified::Pasted, now).unwrap();
    assert_eq!((behind("quay").0.as_str(), behind("porter@198.51.100.4:2022")), ("foghorn", other));
    assert_eq!(Target::resolve(&home, "10.20.0.5:22").unwrap().name, "10.20.0.5:22");
    // It can be shared with others, under the name that it has.
    TrustStore::accept(
        &home,
        "10.20.0.6:22 via quay",
        "10.20.0.6:22 via quay",
        key.public(),
        Verified::Pasted,
        now,
    )
    .unwrap();
    let text = lantern_operations::trust::share(&home, &[], None).unwrap().unwrap().text;
    let file = lantern_book::TrustFile::read(std::path::Path::new("coast.trust"), &text).unwrap();
    assert!(file.records.contains_key("10.20.0.6:22 via quay"));
}
