//! Certificates that are made here, judged by the `openssl` command: chains, names, constraints, requests and PKCS#12, in both directions.

// A test that cannot go on says so by panicking. The judge knows what day it is.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr, clippy::disallowed_methods)]

use std::fs;
use std::path::Path;
use std::process::Command;

use lantern_keys::container::{PrivateContainer, Protect, write_private};
use lantern_keys::issuing::{CertificateRequest, Issuer, Plan, Purpose, issue, new_authority};
use lantern_keys::pkcs12::{self, Pkcs12Ciphers};
use lantern_keys::{
    CertificateName, KeyAlgorithm, KeyError, PrivateKey, SecretString, SystemRandom, TlsCertificate,
    read_certificates, write_certificates,
};

const DAY: i64 = 24 * 3600;

fn has_openssl() -> bool {
    let there = Command::new("openssl").arg("version").output().is_ok_and(|out| out.status.success());
    assert!(there || std::env::var_os("CI").is_none(), "openssl is needed in CI");
    if !there {
        eprintln!("\n*** SKIPPED: no openssl here ***\n");
    }
    there
}

fn now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    i64::try_from(since.as_secs()).unwrap()
}

/// Runs the judge in a folder; whether it agreed, and what it said.
fn openssl(folder: &Path, words: &[&str]) -> (bool, String) {
    let out = Command::new("openssl").args(words).current_dir(folder).output().unwrap();
    (
        out.status.success(),
        format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr)),
    )
}

fn key(algorithm: &str) -> PrivateKey {
    PrivateKey::generate(KeyAlgorithm::from_name(algorithm).unwrap(), "").unwrap()
}

fn dns(name: &str) -> CertificateName {
    CertificateName::Dns(name.into())
}

fn plan(common_name: &str, purpose: Purpose) -> Plan {
    Plan { common_name: common_name.into(), purpose, from: now() - DAY, until: now() + 100 * DAY }
}

fn authority(key: &PrivateKey, only: &[CertificateName]) -> TlsCertificate {
    let plan = plan("Coast authority", Purpose::Authority { only: only.to_vec() });
    new_authority(&plan, key, &mut SystemRandom).unwrap()
}

/// The key of a certificate in DER, by way of a certificate that it signs itself.
fn info(key: &PrivateKey) -> Vec<u8> {
    authority(key, &[]).key_info().to_vec()
}

#[test]
fn chains_by_every_kind_of_key_are_believed_by_the_judge() {
    if !has_openssl() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let put = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    for algorithm in ["ed25519", "ecdsa-p256", "ecdsa-p384", "ecdsa-p521", "rsa-2048", "rsa-3072"] {
        let (root, own) = (key(algorithm), key("ecdsa-p256"));
        let ca = authority(&root, &[]);
        let issuer = Issuer { certificate: &ca, key: &root };
        let names = vec![dns("tide-gauge.example"), CertificateName::Ip("192.0.2.9".parse().unwrap())];
        let server =
            issue(&plan("tide-gauge", Purpose::Server(names)), &info(&own), issuer, &mut SystemRandom)
                .unwrap();
        let client = issue(
            &plan("warden", Purpose::Client("warden@coast.example".into())),
            &info(&own),
            issuer,
            &mut SystemRandom,
        )
        .unwrap();
        put("ca.pem", &write_certificates(std::slice::from_ref(&ca)));
        put("server.pem", &write_certificates(std::slice::from_ref(&server)));
        put("client.pem", &write_certificates(std::slice::from_ref(&client)));
        let verify = |words: &[&str]| {
            openssl(folder.path(), &[&["verify", "-x509_strict", "-CAfile", "ca.pem"], words].concat())
        };
        for (words, agrees) in [
            (&["-purpose", "sslserver", "-verify_hostname", "tide-gauge.example", "server.pem"][..], true),
            (&["-purpose", "sslserver", "-verify_ip", "192.0.2.9", "server.pem"], true),
            (&["-purpose", "sslserver", "-verify_hostname", "chart-room.example", "server.pem"], false),
            (&["-purpose", "sslclient", "server.pem"], false),
            (&["-purpose", "sslclient", "client.pem"], true),
            (&["-purpose", "sslserver", "client.pem"], false),
        ] {
            let (agreed, said) = verify(words);
            assert_eq!(agreed, agrees, "{algorithm} {words:?}: {said}");
        }
        let (_, text) = openssl(folder.path(), &["x509", "-in", "client.pem", "-noout", "-text"]);
        assert!(
            text.contains("othername: UPN::warden@coast.example")
                || text.contains("othername: UPN:warden@coast.example"),
            "{text}"
        );
        assert_eq!((server.is_signed_by(&ca), ca.is_signed_by(&ca)), (Some(true), Some(true)), "{algorithm}");
        assert_ne!(server.is_signed_by(&server), Some(true), "{algorithm}");
        assert_eq!(server.faults_by_issuer(&ca), [], "{algorithm}");
        assert!(server.faults(&["192.0.2.9"], now()).is_empty(), "{algorithm}");
        // Two are never the same, and whoever is below an authority of ours is none.
        assert_ne!(
            server.der(),
            issue(
                &plan("tide-gauge", Purpose::Server(vec![dns("x.example")])),
                &info(&own),
                issuer,
                &mut SystemRandom
            )
            .unwrap()
            .der()
        );
        let below = Issuer { certificate: &server, key: &own };
        let refused =
            issue(&plan("x", Purpose::Server(vec![dns("x.example")])), &info(&own), below, &mut SystemRandom);
        assert!(matches!(refused, Err(KeyError::Refused(_))), "{refused:?}");
    }
}

#[test]
fn an_authority_for_some_is_believed_about_no_others() {
    if !has_openssl() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (root, own) = (key("ecdsa-p256"), key("ecdsa-p256"));
    let only = [
        dns("coast.example"),
        CertificateName::Ip("192.0.2.9".parse().unwrap()),
        CertificateName::Ip("2001:db8::9".parse().unwrap()),
    ];
    let ca = authority(&root, &only);
    fs::write(folder.path().join("ca.pem"), write_certificates(std::slice::from_ref(&ca))).unwrap();
    for (name, agrees) in [
        (dns("lamp-01.coast.example"), true),
        (CertificateName::Ip("192.0.2.9".parse().unwrap()), true),
        (CertificateName::Ip("2001:db8::9".parse().unwrap()), true),
        (dns("bank.example"), false),
        (CertificateName::Ip("192.0.2.10".parse().unwrap()), false),
    ] {
        let issuer = Issuer { certificate: &ca, key: &root };
        let made =
            issue(&plan("x", Purpose::Server(vec![name.clone()])), &info(&own), issuer, &mut SystemRandom)
                .unwrap();
        let of_ours = made.faults_by_issuer(&ca).is_empty();
        fs::write(folder.path().join("own.pem"), write_certificates(&[made])).unwrap();
        let (agreed, said) = openssl(folder.path(), &["verify", "-CAfile", "ca.pem", "own.pem"]);
        assert_eq!((agreed, of_ours), (agrees, agrees), "{name}: {said}");
    }
}

#[test]
fn requests_of_another_toolkit_are_read_and_proven() {
    if !has_openssl() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    for (kind, words, described) in [
        ("rsa", &["-newkey", "rsa:2048"][..], "RSA 2048"),
        ("ec", &["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256"], "ECDSA P-256"),
        ("ed25519", &["-newkey", "ed25519"], "Ed25519"),
    ] {
        let make = [
            &[
                "req",
                "-new",
                "-nodes",
                "-subj",
                "/CN=tide-gauge",
                "-keyout",
                "key.pem",
                "-out",
                "request.pem",
            ],
            words,
        ]
        .concat();
        let (made, said) = openssl(folder.path(), &make);
        assert!(made, "{said}");
        let pem = fs::read(folder.path().join("request.pem")).unwrap();
        let request = CertificateRequest::read(&pem).unwrap();
        assert_eq!((request.describe_key(), request.subject()), (described, "CN=tide-gauge"), "{kind}");
        let (_, said) =
            openssl(folder.path(), &["req", "-in", "request.pem", "-outform", "DER", "-out", "request.der"]);
        let der = fs::read(folder.path().join("request.der")).unwrap();
        assert_eq!(CertificateRequest::read(&der).unwrap(), request, "{said}");
        // Any bit of what is signed, changed, and the signature is of something else.
        let mut changed = der.clone();
        let at = der.windows(10).position(|window| window == b"tide-gauge").unwrap();
        changed[at] ^= 1;
        assert!(CertificateRequest::read(&changed).is_err());
        // What comes of it fits the key that never left.
        let root = key("ecdsa-p256");
        let ca = authority(&root, &[]);
        let issuer = Issuer { certificate: &ca, key: &root };
        let made = issue(
            &plan("x", Purpose::Server(vec![dns("x.example")])),
            request.key_info(),
            issuer,
            &mut SystemRandom,
        )
        .unwrap();
        fs::write(folder.path().join("own.pem"), write_certificates(&[made])).unwrap();
        let (_, of_key) = openssl(folder.path(), &["pkey", "-in", "key.pem", "-pubout"]);
        let (_, of_certificate) = openssl(folder.path(), &["x509", "-in", "own.pem", "-noout", "-pubkey"]);
        assert_eq!(of_key, of_certificate, "{kind}");
    }
}

#[test]
fn pkcs12_goes_both_ways() {
    if !has_openssl() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let secret = |text: &str| SecretString::new(text.into());
    let (root, ca_key) = (key("ecdsa-p256"), key("ed25519"));
    let ca = authority(&ca_key, &[]);
    let issuer = Issuer { certificate: &ca, key: &ca_key };
    let own = issue(
        &plan("tide-gauge", Purpose::Server(vec![dns("tide-gauge.example")])),
        &info(&root),
        issuer,
        &mut SystemRandom,
    )
    .unwrap();
    let chain = [own.clone(), ca.clone()];
    for (ciphers, legacy, cipher) in [
        (Pkcs12Ciphers::Current, &[][..], "AES-256-CBC"),
        (Pkcs12Ciphers::Old, &["-legacy"], "pbeWithSHA1And3-KeyTripleDES-CBC"),
    ] {
        let made =
            pkcs12::write(&root, &chain, "tide-gauge", &secret("low water"), ciphers, &mut SystemRandom)
                .unwrap();
        fs::write(folder.path().join("own.p12"), made.expose_secret()).unwrap();
        let open =
            [&["pkcs12", "-in", "own.p12", "-passin", "pass:low water", "-nodes", "-info"], legacy].concat();
        let (opened, said) = openssl(folder.path(), &open);
        assert!(opened && said.contains(cipher), "{said}");
        assert_eq!(read_certificates(said.as_bytes()).unwrap(), chain);
        assert!(said.contains("BEGIN PRIVATE KEY") && said.contains("friendlyName: tide-gauge"), "{said}");
        let (opened, _) =
            openssl(folder.path(), &["pkcs12", "-in", "own.p12", "-passin", "pass:high water", "-nodes"]);
        assert!(!opened);
    }
    // What the judge seals is opened here, by its ciphers of today and of old.
    let pem =
        write_private(&root, PrivateContainer::Pkcs8Pem, Protect::default(), &mut SystemRandom).unwrap();
    fs::write(folder.path().join("key.pem"), &pem[..]).unwrap();
    fs::write(folder.path().join("own.pem"), write_certificates(&chain)).unwrap();
    for legacy in [&[][..], &["-legacy"]] {
        let seal = [
            &[
                "pkcs12",
                "-export",
                "-inkey",
                "key.pem",
                "-in",
                "own.pem",
                "-passout",
                "pass:low water",
                "-out",
                "its.p12",
            ],
            legacy,
        ]
        .concat();
        let (sealed, said) = openssl(folder.path(), &seal);
        assert!(sealed, "{said}");
        let bytes = fs::read(folder.path().join("its.p12")).unwrap();
        let read = pkcs12::read(&bytes, &secret("low water")).unwrap();
        assert_eq!((read.certificates.as_slice(), read.keys), (&chain[..], 1));
        assert!(matches!(pkcs12::read(&bytes, &secret("high water")), Err(KeyError::WrongPassphrase)));
        // A file that would have us compute for hours is refused before it does.
        let mut costly = bytes.clone();
        let at = costly.windows(4).rposition(|window| window == [0x02, 0x02, 0x08, 0x00]).unwrap();
        costly.splice(at..at + 4, [0x02, 0x04, 0x7f, 0xff, 0xff, 0xff]);
        assert!(pkcs12::read(&costly, &secret("low water")).is_err());
    }
}

#[test]
fn signatures_by_other_hashes_are_verified_and_what_is_not_is_not_claimed() {
    if !has_openssl() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    for (kind, options, expected) in [
        ("rsa:2048", &["-sha384"][..], Some(true)),
        ("rsa:2048", &["-sha512"], Some(true)),
        ("rsa:1024", &["-sha256"], Some(true)),
        ("rsa:2048", &["-sha1"], Some(true)),
        ("ec:P-256", &["-sha384"], Some(true)),
        ("ec:P-384", &["-sha256"], Some(true)),
        ("rsa:2048", &["-sha256", "-sigopt", "rsa_padding_mode:pss"], None),
    ] {
        let curve = kind.strip_prefix("ec:").map(|curve| format!("ec_paramgen_curve:{curve}"));
        let key = match &curve {
            Some(curve) => vec!["-newkey", "ec", "-pkeyopt", curve],
            None => vec!["-newkey", kind],
        };
        let make = ["req", "-x509", "-nodes", "-subj", "/CN=lamp", "-keyout", "k.pem", "-out", "c.pem"];
        let (made, said) = openssl(folder.path(), &[&make[..], &key, options].concat());
        assert!(made, "{kind} {options:?}: {said}");
        let own = &read_certificates(&fs::read(folder.path().join("c.pem")).unwrap()).unwrap()[0];
        assert_eq!(own.is_signed_by(own), expected, "{kind} {options:?}");
        let mut changed = own.der().to_vec();
        *changed.last_mut().unwrap() ^= 1;
        let changed = TlsCertificate::read(&changed).unwrap();
        assert_eq!(changed.is_signed_by(own), expected.map(|_| false), "{kind} {options:?}");
    }
}
