//! Nine hundred key files in every dress and with every defect, written by an independent library and by hand: what each is
//! found to be, and that none gives its secret away.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod corpus_files;
mod support;

use std::fs;

use base64ct::{Base64, Encoding};
use corpus_files::{gives_away, secrets_of, write_corpus};
use lantern_keys::container::{Found, Other, Sealed, contents};
use lantern_keys::{
    CertificateKind, CertificateSignature, KeyError, PrivateKey, SecretString, SignatureAlgorithm,
};
use serde_json::Value;

/// What an error says of a file, in the corpus's words.
fn kind_of(error: &KeyError) -> &'static str {
    match error {
        KeyError::Malformed(_) | KeyError::Wire(_) | KeyError::Inconsistent(_) => "damaged",
        KeyError::Unsupported { .. } => "refused",
        KeyError::TooCostly { .. } => "costly",
        KeyError::NotAKey(_) => "nothing",
        other => panic!("{other}"),
    }
}

fn signs(key: &PrivateKey) {
    let algorithm: SignatureAlgorithm = key.signature_algorithms()[0];
    key.public().verify(b"lit", &key.sign(b"lit", algorithm).unwrap()).unwrap();
}

fn check_private(sealed: &Sealed, entry: &Value, file: &str) {
    let passphrase = entry["passphrase"].as_str();
    assert_eq!(sealed.is_protected(), passphrase.is_some(), "{file}");
    let secret = passphrase.map(|text| SecretString::new(text.to_owned()));
    let key = sealed.open(secret.as_ref()).unwrap_or_else(|error| panic!("{file}: {error}"));
    assert_eq!(key.public().fingerprint().to_string(), entry["fingerprint"], "{file}");
    if let Some(comment) = entry["comment"].as_str() {
        assert_eq!((key.comment(), sealed.comment(0)), (comment, Some(comment)), "{file}");
    }
    if passphrase.is_some() && file.ends_with("-closed") {
        let wrong = SecretString::new("eleven red lamps".into());
        let error = sealed.open(Some(&wrong)).map(|_| ()).unwrap_err();
        assert!(
            matches!(error, KeyError::WrongPassphrase | KeyError::WrongPassphraseOrDamaged),
            "{file}: {error}"
        );
        assert!(matches!(sealed.open(None).map(|_| ()), Err(KeyError::PassphraseNeeded)), "{file}");
    }
    signs(&key);
}

/// What one file is found to be: its kind, and the words about it.
fn outcome(found: &Result<Found, KeyError>, entry: &Value, file: &str) -> (String, String) {
    match found {
        // What would cost too much shows when it is to be opened.
        Ok(Found::Private(sealed)) => match sealed.work().check(lantern_keys::container::Patience::Long) {
            Err(error) => (kind_of(&error).into(), error.to_string()),
            Ok(()) => {
                check_private(sealed, entry, file);
                (if sealed.is_protected() { "closed" } else { "sound" }.into(), sealed.describe())
            }
        },
        Ok(Found::Public(public)) => {
            assert_eq!(public.key.fingerprint().to_string(), entry["fingerprint"], "{file}");
            if let Some(comment) = entry["comment"].as_str() {
                assert_eq!(public.comment, comment, "{file}");
            }
            ("public".into(), String::new())
        }
        Ok(Found::Certificate { certificate, .. }) => {
            assert_eq!(certificate.key_fingerprint.to_string(), entry["fingerprint"], "{file}");
            assert_eq!(certificate.signed_by.to_string(), entry["signed_by"], "{file}");
            let good = certificate.signature == CertificateSignature::Good;
            assert_eq!(good, entry["signature"] == "good", "{file}");
            assert_eq!(certificate.kind == CertificateKind::Host, entry["host"] == true, "{file}");
            assert_eq!(
                (certificate.serial, certificate.id.as_str()),
                (7, "keeper of the north lamp"),
                "{file}"
            );
            assert_eq!(certificate.principals, ["keeper"], "{file}");
            ("certificate".into(), String::new())
        }
        Ok(Found::Other(Other { what, why, .. })) => ("other".into(), format!("{what}; {why}")),
        Err(error) => (kind_of(error).into(), error.to_string()),
    }
}

#[test]
fn every_file_of_the_corpus_is_what_it_is_and_keeps_its_secret() {
    if !support::judges_are_here() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let manifest = write_corpus(folder.path());
    assert!(manifest.len() > 800, "{}", manifest.len());
    let mut wrong = Vec::new();
    for entry in &manifest {
        let file = entry["file"].as_str().unwrap();
        let bytes = fs::read(folder.path().join(file)).unwrap();
        let secrets = secrets_of(entry);
        let read = contents(&bytes);
        let said = format!("{read:?}");
        let (kind, words) = match &read {
            Err(error) => (kind_of(error).to_owned(), error.to_string()),
            Ok(contents) => match contents.found.as_slice() {
                [found] => outcome(found, entry, file),
                several => ("several".into(), several.len().to_string()),
            },
        };
        let reason = entry["reason"].as_str().unwrap();
        if kind != entry["kind"] || !words.contains(reason) {
            wrong.push(format!("{file}: wanted {} ({reason}), met {kind}: {words}", entry["kind"]));
        }
        if gives_away(&format!("{words}\n{said}"), &secrets) {
            wrong.push(format!("{file}: gives its secret away"));
        }
    }
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), manifest.len(), wrong.join("\n"));
}

/// The check itself: a text that holds a secret is caught.
#[test]
fn what_gives_a_secret_away_is_seen() {
    let secret: Vec<u8> = (100..132).collect();
    let base64 = Base64::encode_string(&secret);
    let secrets = [secret.clone()];
    assert!(gives_away(&format!("label `{}`", &base64[7..30]), &secrets));
    assert!(gives_away("666768696A6B6C6D6E6F", &secrets));
    assert!(!gives_away("the END line is missing", &secrets));
}
