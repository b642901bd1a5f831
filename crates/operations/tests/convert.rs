//! The same key in another container: proven, for its owner alone, and refused where it makes no sense.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::os::unix::fs::PermissionsExt;

use lantern_keys::container::{
    Patience, PrivateContainer, Protect, PublicContainer, PublicFile, Sealed, write_public,
};
use lantern_keys::{KeyAlgorithm, PrivateKey, SecretString};
use lantern_operations::convert::{
    ConvertError, ProtectOptions, check_container, convert_private, convert_private_to, convert_public,
    protection,
};

#[test]
fn a_converted_key_opens_again_as_the_same_and_what_makes_no_sense_is_refused() {
    let secret = SecretString::new("four words and a tide".into());
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper@chart-room").unwrap();
    let options = |cipher: Option<&str>, derivation: Option<&str>, cost| ProtectOptions {
        cipher: cipher.map(str::to_owned),
        derivation: derivation.map(str::to_owned),
        cost,
    };
    for (container, said) in [
        (PrivateContainer::OpensshKeyV1, options(Some("aes256-gcm@openssh.com"), Some("bcrypt"), Some(2))),
        (PrivateContainer::Pkcs8Pem, options(Some("aes128-cbc"), Some("pbkdf2-sha512"), Some(1000))),
        (PrivateContainer::Pkcs8Der, options(None, Some("scrypt"), Some(10))),
    ] {
        let protect = protection(container, Some(&secret), &said).unwrap();
        let content = convert_private(&key, container, protect).unwrap();
        let opened = Sealed::parse(&content).unwrap().open_all(Some(&secret), Patience::Short).unwrap();
        assert_eq!(opened[0].public(), key.public());
        // Closed: nothing opens it without.
        assert!(Sealed::parse(&content).unwrap().open_all(None, Patience::Short).is_err());
    }
    let refused = |container, said: &ProtectOptions| protection(container, Some(&secret), said).unwrap_err();
    use PrivateContainer::{OpensshKeyV1, Pkcs1Pem, Pkcs8Pem};
    assert!(matches!(
        refused(OpensshKeyV1, &options(Some("rot13"), None, None)),
        ConvertError::Unknown { what: "cipher", .. }
    ));
    assert!(matches!(
        refused(OpensshKeyV1, &options(None, Some("scrypt"), None)),
        ConvertError::Unknown { what: "derivation", .. }
    ));
    assert!(matches!(refused(Pkcs8Pem, &options(None, Some("scrypt"), Some(40))), ConvertError::ScryptCost));
    assert!(matches!(refused(Pkcs8Pem, &options(None, None, Some(u32::MAX))), ConvertError::TooDear { .. }));
    assert!(matches!(refused(Pkcs8Pem, &options(None, None, Some(0))), ConvertError::NoCost));
    assert!(matches!(
        refused(Pkcs1Pem, &options(Some("aes256-cbc"), None, None)),
        ConvertError::NothingToProtect
    ));
    let nothing = protection(Pkcs8Pem, None, &options(None, None, Some(2)));
    assert!(matches!(nothing, Err(ConvertError::NothingToProtect)));
    // A closed key does not go where it would stand open.
    let protect = protection(OpensshKeyV1, Some(&secret), &options(None, None, Some(1))).unwrap();
    let sealed = Sealed::parse(&convert_private(&key, OpensshKeyV1, protect).unwrap()).unwrap();
    assert!(matches!(check_container(&sealed, Pkcs1Pem), Err(ConvertError::CannotProtect(_))));
    check_container(&sealed, Pkcs8Pem).unwrap();
    // An Ed25519 key has no place in a container of RSA keys.
    assert!(matches!(convert_private(&key, Pkcs1Pem, Protect::default()), Err(ConvertError::Key(_))));
}

#[test]
fn a_converted_key_is_for_its_owner_and_writes_over_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    let out = folder.path().join("out.pem");
    let write =
        |replace| convert_private_to(&out, &key, PrivateContainer::Pkcs8Pem, Protect::default(), replace);
    write(false).unwrap();
    assert_eq!(std::fs::metadata(&out).unwrap().permissions().mode() & 0o777, 0o600);
    let before = std::fs::read(&out).unwrap();
    assert!(matches!(write(false), Err(ConvertError::Book(_))));
    assert_eq!(std::fs::read(&out).unwrap(), before);
    write(true).unwrap();
}

#[test]
fn a_public_half_says_what_it_has_no_place_for() {
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap().public().clone();
    let public = PublicFile {
        key: key.clone(),
        comment: "keeper@chart-room".into(),
        options: "no-pty".into(),
        container: PublicContainer::Line,
    };
    let line = convert_public(&public, PublicContainer::Line).unwrap();
    let text = String::from_utf8(line.content).unwrap();
    assert!(
        text.starts_with("no-pty ssh-ed25519 ") && text.trim_end().ends_with("keeper@chart-room"),
        "{text}"
    );
    assert!(!line.lost_comment && !line.lost_options);
    let spki = convert_public(&public, PublicContainer::SpkiPem).unwrap();
    assert!(spki.lost_comment && spki.lost_options);
    assert_eq!(spki.content, write_public(&key, "", PublicContainer::SpkiPem).unwrap());
    assert!(convert_public(&public, PublicContainer::Pkcs1PublicPem).is_err());
}
