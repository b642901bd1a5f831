//! What is wrong with certificates, as `certificate show` tells it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;

use lantern_keys::{TlsCertificate, write_certificates};
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair, KeyUsagePurpose};
use support::Desk;
use support::certificates::{agrees, value};

fn pem(der: &[u8]) -> String {
    write_certificates(&[TlsCertificate::read(der).unwrap()])
}

/// A file in armour on the desk.
fn put(desk: &Desk, name: &str, pems: &[String]) -> String {
    fs::write(desk.folder.path().join(name), pems.concat()).unwrap();
    format!("./{name}")
}

#[test]
fn everything_that_is_wrong_with_a_certificate_is_told_with_its_reason() {
    let desk = Desk::new();
    let year = |year: i32| rcgen::date_time_ymd(year, 1, 1);
    let params = |name: &str| {
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        (params.not_before, params.not_after) = (year(2020), year(2100));
        params.distinguished_name.push(rcgen::DnType::CommonName, name);
        params
    };
    let authority = |name: &str, change: &dyn Fn(&mut CertificateParams)| {
        let mut own = params(name);
        own.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        own.key_usages = vec![KeyUsagePurpose::KeyCertSign];
        change(&mut own);
        CertifiedIssuer::self_signed(own, KeyPair::generate().unwrap()).unwrap()
    };
    let root = authority("Coast", &|_| {});
    let narrow = authority("Narrow", &|own| {
        own.name_constraints = Some(rcgen::NameConstraints {
            permitted_subtrees: vec![rcgen::GeneralSubtree::DnsName("coast.example".into())],
            excluded_subtrees: Vec::new(),
        });
    });
    let twin = authority("Coast", &|_| {});
    let no_authority = authority("Nobody", &|own| own.is_ca = IsCa::NoCa);
    let signed = |issuer: &CertifiedIssuer<'_, KeyPair>, change: &dyn Fn(&mut CertificateParams)| {
        let mut own = params("lamp.example");
        change(&mut own);
        pem(own.signed_by(&KeyPair::generate().unwrap(), issuer).unwrap().der())
    };
    let good = signed(&root, &|_| {});
    let made_by_openssl = |words: &[&str]| {
        let all = [
            &[
                "req",
                "-x509",
                "-nodes",
                "-subj",
                "/CN=lamp.example",
                "-addext",
                "subjectAltName=DNS:lamp.example",
                "-addext",
                "basicConstraints=critical,CA:FALSE",
                "-days",
                "400",
                "-keyout",
                "x.key",
                "-out",
                "x.pem",
            ],
            words,
        ]
        .concat();
        assert!(agrees(&desk, &all), "{all:?}");
        fs::read_to_string(desk.folder.path().join("x.pem")).unwrap()
    };
    let for_clients = |own: &mut CertificateParams| {
        own.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ClientAuth]
    };
    let root_pem = pem(root.der());
    let table: Vec<(&str, Vec<String>, &[&str], &str)> = vec![
        ("good", vec![good.clone(), root_pem.clone()], &[], "nothing found"),
        (
            "ended",
            vec![signed(&root, &|own| own.not_after = year(2021)), root_pem.clone()],
            &["expired"],
            "it ended on 2021-01-01",
        ),
        (
            "early",
            vec![signed(&root, &|own| own.not_before = year(2099)), root_pem.clone()],
            &["not-yet-valid"],
            "it is valid only from 2099-01-01 on",
        ),
        (
            "elsewhere",
            vec![
                signed(&root, &|own| {
                    own.subject_alt_names = vec![rcgen::SanType::DnsName("bank.example".try_into().unwrap())]
                }),
                root_pem.clone(),
            ],
            &["other-name"],
            "it is for bank.example, and not for lamp.example",
        ),
        (
            "nameless",
            vec![signed(&root, &|own| own.subject_alt_names = Vec::new()), root_pem.clone()],
            &["no-name"],
            "it names nobody in a way that counts",
        ),
        (
            "user",
            vec![signed(&root, &for_clients), root_pem.clone()],
            &["not-for-servers"],
            "it is not meant for servers",
        ),
        (
            "alone",
            vec![good.clone()],
            &["unknown-authority"],
            "whoever signed it is not known here: CN=Coast",
        ),
        (
            "twin",
            vec![good.clone(), pem(twin.der())],
            &["not-signed-by-issuer"],
            "its signature is not made by CN=Coast",
        ),
        (
            "climber",
            vec![signed(&no_authority, &|_| {}), pem(no_authority.der())],
            &["issuer-no-authority"],
            "whoever signed it may not sign others: CN=Nobody",
        ),
        (
            "narrow",
            vec![signed(&narrow, &|_| {}), pem(narrow.der())],
            &["outside-constraints"],
            "CN=Narrow may not vouch for lamp.example",
        ),
        (
            "weak-key",
            vec![made_by_openssl(&["-newkey", "rsa:1024"])],
            &["self-signed", "weak-key"],
            "its key is weak: RSA 1024",
        ),
        (
            "weak-hash",
            vec![made_by_openssl(&["-newkey", "rsa:2048", "-sha1"])],
            &["self-signed", "weak-signature"],
            "its signature is weak: SHA-1",
        ),
    ];
    for (name, pems, faults, words) in &table {
        let file = put(&desk, &format!("{name}.pem"), pems);
        let shown = value(
            &desk.lantern(&["certificate", "show", &file, "--for-name", "lamp.example", "--json"]).expect(0),
        );
        let met: Vec<&str> = shown["chain"][0]["faults"]
            .as_array()
            .unwrap()
            .iter()
            .map(|fault| fault.as_str().unwrap())
            .collect();
        assert_eq!(&met, faults, "{name}");
        let told = desk.lantern(&["certificate", "show", &file, "--for-name", "lamp.example"]).expect(0);
        assert!(told.text().contains(words), "{name}: {}", told.text());
    }
    // Files that are none.
    for (name, content, told) in [
        ("empty.pem", "", "there is no X.509 certificate in it"),
        ("half.pem", "-----BEGIN CERTIFICATE-----\nMIIB\n", "the armour of a certificate is damaged"),
        (
            "noise.pem",
            "-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----\n",
            "it is no certificate of RFC 5280",
        ),
        ("steering.pem", "\u{1b}]0;x\u{7}", "there is no X.509 certificate in it"),
    ] {
        let file = put(&desk, name, &[content.to_owned()]);
        let refused = desk.lantern(&["certificate", "show", &file]).expect(241);
        assert!(refused.err.contains(told) && !refused.err.contains('\u{1b}'), "{name} {}", refused.err);
    }
    let nowhere = desk.lantern(&["certificate", "show", "nowhere"]).expect(241);
    assert!(nowhere.err.contains("lantern certificate audit"), "{}", nowhere.err);
}
