//! Key files between us and two independent judges: the `openssl` command and Python's `cryptography`.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use lantern_keys::container::encrypted_pkcs8::{self, Cipher, Derivation, Prf};
use lantern_keys::container::{
    Found, OpensshCipher, PrivateContainer, Protect, PublicContainer, Sealed, openssh_key_v1, read,
    write_private, write_public,
};
use lantern_keys::{Curve, KeyAlgorithm, PrivateKey, PublicKey, RsaBits, SecretString, SystemRandom};
use support::{PYTHON, judges_are_here};

const SECRET: &str = "twelve green lamps, ø";

fn keys() -> Vec<(&'static str, PrivateKey)> {
    let algorithms = [
        ("ed25519", KeyAlgorithm::Ed25519),
        ("p256", KeyAlgorithm::Ecdsa(Curve::P256)),
        ("p384", KeyAlgorithm::Ecdsa(Curve::P384)),
        ("p521", KeyAlgorithm::Ecdsa(Curve::P521)),
        ("rsa2048", KeyAlgorithm::Rsa(RsaBits::B2048)),
        ("rsa3072", KeyAlgorithm::Rsa(RsaBits::B3072)),
    ];
    algorithms.map(|(name, kind)| (name, PrivateKey::generate(kind, "keeper@foghorn").unwrap())).into()
}

fn secret() -> SecretString {
    SecretString::new(SECRET.to_owned())
}

fn judge(verb: &str, folder: &Path) {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/judge.py");
    let output = Command::new(PYTHON).arg(script).arg(verb).arg(folder).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

fn openssl(words: &[&str]) -> Vec<u8> {
    let output = Command::new("openssl").args(words).output().unwrap();
    assert!(output.status.success(), "openssl {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    output.stdout
}

/// The canonical form that all are compared in: PKCS#8 DER without protection, every number in it.
fn canonical(key: &PrivateKey) -> Vec<u8> {
    write_private(key, PrivateContainer::Pkcs8Der, Protect::default(), &mut SystemRandom).unwrap().to_vec()
}

/// Every way to write a key down, with a name for the file and whether there is a passphrase.
fn ways(key: &PrivateKey) -> Vec<(String, Vec<u8>, bool)> {
    let (passphrase, mut out) = (secret(), Vec::new());
    let mut add = |name: String, container, protect: Protect<'_>| {
        if let Ok(bytes) = write_private(key, container, protect, &mut SystemRandom) {
            out.push((name, bytes.to_vec(), protect.passphrase.is_some()));
        }
    };
    for (name, container) in PrivateContainer::NAMES {
        let known = if name == "openssh-key-v1" { "-library" } else { "" };
        add(format!("{name}{known}"), container, Protect::default());
    }
    let sealed = Protect::with(Some(&passphrase));
    for cipher in OpensshCipher::ALL {
        // The others it learned later than the version that the tests run with.
        let known = if matches!(cipher.name(), "aes256-ctr" | "aes256-cbc") { "-library" } else { "" };
        let openssh = openssh_key_v1::Settings { cipher, rounds: 2 };
        let name = format!("{}{known}", cipher.name().split('@').next().unwrap());
        add(name, PrivateContainer::OpensshKeyV1, Protect { openssh, ..sealed });
    }
    let derivations = [
        Derivation::Pbkdf2(Prf::Sha1, 1000),
        Derivation::Pbkdf2(Prf::Sha256, 2000),
        Derivation::Pbkdf2(Prf::Sha384, 1000),
        Derivation::Pbkdf2(Prf::Sha512, 1000),
        Derivation::Scrypt(14),
    ];
    for (at, derivation) in derivations.into_iter().enumerate() {
        for cipher in [Cipher::Aes256, Cipher::Aes192, Cipher::Aes128] {
            let protect = Protect { pkcs8: encrypted_pkcs8::Settings { derivation, cipher }, ..sealed };
            let container = if at % 2 == 0 { PrivateContainer::Pkcs8Pem } else { PrivateContainer::Pkcs8Der };
            add(format!("sealed-{at}-{cipher:?}"), container, protect);
        }
    }
    out
}

#[test]
fn both_judges_read_every_container_that_we_write_and_find_the_same_numbers() {
    if !judges_are_here() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let mut written = Vec::new();
    for (algorithm, key) in keys() {
        for (way, bytes, sealed) in ways(&key) {
            let path = folder.path().join(format!("{algorithm}-{way}.key"));
            fs::write(&path, &bytes).unwrap();
            fs::write(path.with_extension("pass"), SECRET).unwrap();
            if sealed {
                fs::write(path.with_extension("secret"), SECRET).unwrap();
            }
            // First by ourselves.
            let opened = Sealed::parse(&bytes).unwrap().open(sealed.then_some(&secret())).unwrap();
            assert_eq!(canonical(&opened), canonical(&key), "{}", path.display());
            written.push((path, canonical(&key)));
        }
    }
    judge("read", folder.path());
    assert!(written.len() > 150, "{} files", written.len());
    for (path, expected) in &written {
        let found = fs::read(path.with_extension("pkcs8")).unwrap();
        assert!(found == *expected, "cryptography reads other numbers in {}", path.display());
        if fs::read(path).unwrap().starts_with(b"-----BEGIN OPENSSH") {
            continue;
        }
        let pass = format!("file:{}", path.with_extension("pass").display());
        let file = path.to_str().unwrap();
        // `pkey` writes traditional forms in DER unless told through `pkcs8`.
        let plain = openssl(&["pkey", "-in", file, "-passin", &pass]);
        let Found::Private(plain) = read(&plain).unwrap().remove(0).unwrap() else { panic!("{file}") };
        assert!(canonical(&plain.open(None).unwrap()) == *expected, "openssl reads other numbers in {file}");
    }
}

#[test]
fn what_cryptography_writes_is_read_by_us() {
    if !judges_are_here() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let keys = keys();
    for (algorithm, key) in &keys {
        fs::write(folder.path().join(format!("{algorithm}.pkcs8")), canonical(key)).unwrap();
    }
    judge("write", folder.path());
    let mut count = 0;
    for entry in fs::read_dir(folder.path()).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_none_or(|ending| ending != "key") {
            continue;
        }
        let stem = path.file_stem().unwrap().to_str().unwrap();
        let (_, key) = keys.iter().find(|(name, _)| stem.starts_with(&format!("{name}-"))).unwrap();
        check_read(&path, key);
        count += 1;
    }
    assert!(count > 100, "{count} files");
}

/// Reads a file that holds `key` or its public half.
#[track_caller]
fn check_read(path: &Path, key: &PrivateKey) {
    let bytes = fs::read(path).unwrap();
    let passphrase = fs::read_to_string(path.with_extension("secret")).ok().map(SecretString::new);
    match read(&bytes).unwrap().remove(0) {
        Ok(Found::Private(sealed)) => {
            assert_eq!(sealed.is_protected(), passphrase.is_some(), "{}", path.display());
            let opened = sealed.open(passphrase.as_ref());
            let opened = opened.unwrap_or_else(|error| panic!("{}: {error}", path.display()));
            assert_eq!(canonical(&opened), canonical(key), "{}", path.display());
            if let Some(wrong) = passphrase.map(|_| SecretString::new("thirteen".into())) {
                sealed.open(Some(&wrong)).expect_err("a wrong passphrase opens it");
            }
        }
        Ok(Found::Public(public)) => assert_eq!(public.key, *key.public(), "{}", path.display()),
        other => panic!("{}: {other:?}", path.display()),
    }
}

#[test]
fn what_openssl_writes_is_read_by_us() {
    if !judges_are_here() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| -> PathBuf { folder.path().join(name) };
    for (algorithm, key) in keys() {
        let source = file(&format!("{algorithm}.pem"));
        let pem =
            write_private(&key, PrivateContainer::Pkcs8Pem, Protect::default(), &mut SystemRandom).unwrap();
        fs::write(&source, &pem).unwrap();
        let source = source.to_str().unwrap();
        let run = |way: String, words: &[&str]| {
            let path = file(&format!("{algorithm}-{way}.key"));
            fs::write(path.with_extension("secret"), SECRET).unwrap();
            let pass = format!("file:{}", path.with_extension("secret").display());
            let words: Vec<&str> =
                words.iter().map(|word| if *word == "PASS" { &pass } else { *word }).collect();
            fs::write(&path, openssl(&words)).unwrap();
            check_read(&path, &key);
        };
        let topk8 = ["pkcs8", "-topk8", "-in", source, "-passout", "PASS"];
        for cipher in ["aes-128-cbc", "aes-192-cbc", "aes-256-cbc", "des3"] {
            for prf in ["hmacWithSHA1", "hmacWithSHA256", "hmacWithSHA384", "hmacWithSHA512"] {
                run(format!("{cipher}-{prf}"), &[&topk8[..], &["-v2", cipher, "-v2prf", prf]].concat());
            }
        }
        run("scrypt".into(), &[&topk8[..], &["-scrypt"]].concat());
        run("scrypt-der".into(), &[&topk8[..], &["-scrypt", "-outform", "DER"]].concat());
        if algorithm != "ed25519" {
            for cipher in ["-aes128", "-aes192", "-aes256", "-des3"] {
                let words = ["pkey", "-in", source, "-traditional", cipher, "-passout", "PASS"];
                run(format!("older{cipher}"), &words);
            }
        }
    }
}

#[test]
fn openssl_reads_the_public_containers_that_we_write() {
    if !judges_are_here() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    for (algorithm, key) in keys() {
        let path = folder.path().join(algorithm);
        let file = path.to_str().unwrap();
        let mut containers = vec![(PublicContainer::SpkiPem, "PEM"), (PublicContainer::SpkiDer, "DER")];
        if matches!(key.public(), PublicKey::Rsa { .. }) {
            containers.push((PublicContainer::Pkcs1PublicPem, "PEM"));
        }
        for (container, form) in containers {
            fs::write(&path, write_public(key.public(), "", container).unwrap()).unwrap();
            let again = match container {
                PublicContainer::Pkcs1PublicPem => {
                    openssl(&["rsa", "-RSAPublicKey_in", "-in", file, "-pubout"])
                }
                _ => openssl(&["pkey", "-pubin", "-inform", form, "-in", file, "-pubout"]),
            };
            assert_eq!(
                again,
                write_public(key.public(), "", PublicContainer::SpkiPem).unwrap(),
                "{container:?}"
            );
        }
    }
}
