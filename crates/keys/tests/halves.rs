//! The numbers and halves of a key, which must fit each other.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use lantern_keys::container::{PrivateContainer, Protect, Sealed, read, write_private};
use lantern_keys::{KeyAlgorithm, KeyError, PrivateKey, RsaBits, SystemRandom};

/// Each of the eight numbers of an RSA key, changed by one bit, is noticed: a key with a wrong coefficient would sign, and
/// give its primes away with the signature.
#[test]
fn every_number_of_an_rsa_key_is_checked() {
    use base64ct::Encoding;
    let key = PrivateKey::generate(KeyAlgorithm::Rsa(RsaBits::B2048), "").unwrap();
    let small =
        write_private(&key, PrivateContainer::Pkcs1Der, Protect::default(), &mut SystemRandom).unwrap();
    let large: String =
        include_str!("data/rsa-16384.pem").lines().filter(|line| !line.starts_with('-')).collect();
    for der in [small.to_vec(), base64ct::Base64::decode_vec(&large).unwrap()] {
        // Past the outer header and the version, every element is an INTEGER with a short or long length.
        let (mut at, mut changed) = (4 + 3, 0);
        while at < der.len() {
            assert_eq!(der[at], 2);
            let (header, len) = match der[at + 1] {
                0x82 => (4, usize::from(der[at + 2]) << 8 | usize::from(der[at + 3])),
                0x81 => (3, usize::from(der[at + 2])),
                len => (2, usize::from(len)),
            };
            let mut spoilt = der.clone();
            spoilt[at + header + len - 1] ^= 2;
            let found = read(&spoilt).unwrap().remove(0);
            assert!(matches!(found, Err(KeyError::Inconsistent(_))), "number {changed}: {found:?}");
            at += header + len;
            changed += 1;
        }
        assert_eq!(changed, 8);
    }
}

/// PKCS#8 of version 2 repeats the public half, which must then fit.
#[test]
fn pkcs8_of_version_2_is_read_and_its_halves_compared() {
    let der = aws_lc_rs::signature::Ed25519KeyPair::generate().unwrap().to_pkcs8().unwrap();
    let key = Sealed::parse(der.as_ref()).unwrap().open(None).unwrap();
    assert_eq!(key.public().describe(), "Ed25519");
    let mut changed = der.as_ref().to_vec();
    *changed.last_mut().unwrap() ^= 1;
    assert!(matches!(Sealed::parse(&changed), Err(KeyError::Inconsistent(_))));
}
