//! Key exchange methods against published vectors and against each other.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

use lantern_keys::SystemRandom;

use super::*;

fn hex(text: &str) -> Vec<u8> {
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap()).collect()
}

/// RFC 7748 §5.2, first vector.
#[test]
fn x25519_agrees_with_rfc_7748() {
    let alice = ecdh::Ephemeral::from_private_x25519(&hex(
        "a546e36bf0527c9d3b16154b82465edd62144c0ac1fc5a18506a2244ba449ac4",
    ));
    let bob = hex("e6db6867583030db3594c1a424b15f7c726624ec26b3353b10a903a6d0ab1c4c");
    let shared = hex("c3da55379de9c6908e94ea4df28d084f32eccf03491c71f754b4075577a28552");
    assert_eq!(alice.agree_raw(&bob, <[u8]>::to_vec).unwrap(), shared);
    // RFC 8731 §3: a point of small order, which makes the secret all zero, ends the exchange.
    assert!(alice.agree_raw(&[0; 32], <[u8]>::to_vec).is_err());
}

/// Every method: both sides reach the same secret, and a share of the wrong kind is refused.
#[test]
fn both_sides_agree_and_bad_shares_are_refused() {
    for algorithm in KexAlgorithm::ALL {
        let group = (algorithm == KexAlgorithm::GroupExchange)
            .then(|| DhGroup::choose(GroupRequest { min: 2048, wished: 2048, max: 8192 }).unwrap());
        let client = ClientShare::new(algorithm, group.clone(), &mut SystemRandom).unwrap();
        let (server_share, secret) =
            server_agree(algorithm, group.clone(), client.share(), &mut SystemRandom).unwrap();
        assert_eq!(client.agree(&server_share).unwrap().encoded(), secret.encoded(), "{algorithm:?}");

        let all_ones = vec![0xff; server_share.len()];
        for bad in [&[][..], &[1], &[0; 32], &all_ones, &server_share[1..]] {
            let client = ClientShare::new(algorithm, group.clone(), &mut SystemRandom).unwrap();
            let outcome = client.agree(bad);
            // A random string of the right length may be a valid share; it must not give the same secret.
            assert!(outcome.map_or(true, |other| other.encoded() != secret.encoded()), "{algorithm:?}");
        }
    }
}

#[test]
fn finite_field_shares_outside_the_group_are_refused() {
    let minus_one = {
        let mut prime = hex(groups::GROUP14.prime_hex);
        *prime.last_mut().unwrap() -= 1;
        prime
    };
    for bad in [vec![], vec![1], minus_one, vec![0xff; 256], vec![0xff; 300]] {
        let client = ClientShare::new(KexAlgorithm::Group14, None, &mut SystemRandom).unwrap();
        assert!(matches!(client.agree(&bad), Err(SshError::PeerBroke { .. })));
    }
}

#[test]
fn groups_below_2048_bits_are_refused_and_the_wished_size_is_chosen() {
    let mut small = Vec::new();
    small.put_mpint(&hex(groups::GROUP14.prime_hex)[..128]);
    small.put_mpint(&[2]);
    assert!(matches!(DhGroup::decode(Reader::new(&small)), Err(SshError::PeerBroke { .. })));

    let bits_for = |wished, max| {
        let mut out = Vec::new();
        DhGroup::choose(GroupRequest { min: 2048, wished, max }).unwrap().encode(&mut out);
        (out.len() - 4 - 1 - 5) * 8
    };
    assert_eq!(bits_for(2048, 8192), 2048);
    assert_eq!(bits_for(3072, 8192), 3072);
    assert_eq!(bits_for(5000, 8192), 8192);
    assert_eq!(bits_for(5000, 4096), 4096);
    assert!(DhGroup::choose(GroupRequest { min: 1024, wished: 1024, max: 1536 }).is_err());
}

/// A server's share that another cryptographic library made for a fixed ML-KEM-768 key, and the K that the IETF
/// sshm draft then demands: SHA-256 over the ML-KEM secret and the X25519 secret, computed there too.
#[test]
fn mlkem768x25519_agrees_with_an_independent_implementation() {
    let field = |name: &str| {
        let line = include_str!("data/mlkem768x25519.txt").lines().find_map(|line| line.strip_prefix(name));
        hex(line.unwrap().trim())
    };
    let client =
        || hybrid::Ephemeral::from_private_mlkem(&field("decapsulation_key"), &field("x25519_private"));
    let mut share = field("server_share");
    let mut expected = Vec::new();
    expected.put_string(&field("k"));
    assert_eq!(client().agree(&share).unwrap().encoded(), expected);
    // ML-KEM rejects implicitly: a spoiled ciphertext gives another secret, not an error.
    share[0] ^= 1;
    assert_ne!(client().agree(&share).unwrap().encoded(), expected);
}

/// RFC 4253 §7.2, with the numbers of an independent computation; the 64 bytes need the extension.
#[test]
fn the_key_schedule_derives_and_extends_as_the_standard_says() {
    use crate::algorithm::CipherAlgorithm::{Aes256Gcm, ChaCha20Poly1305};
    use crate::negotiate::Direction;
    let digest = |text: &[u8]| digest::digest(&digest::SHA256, text).as_ref().to_vec();
    let mut number = vec![0x80];
    number.extend(0..31);
    let schedule = schedule::KeySchedule {
        algorithm: KexAlgorithm::Curve25519,
        secret: SharedSecret::mpint(&number),
        exchange_hash: digest(b"exchange"),
    };
    let session_id = digest(b"session");
    let keys = |cipher, mac, letters| schedule.keys(Direction { cipher, mac }, letters, &session_id);
    let to_server =
        keys(ChaCha20Poly1305, Some(crate::algorithm::MacAlgorithm::Sha256), schedule::CLIENT_TO_SERVER);
    assert_eq!(
        *to_server.key,
        hex(
            "37c83dc46be72bbd800a171609b90b8567dbc756c213548bea87288533f7b73a5447cad5406996c0054d5f057e5c7dda879ba95a739420746bb94b4018be109b"
        )
    );
    assert_eq!(*to_server.mac, hex("3054dfe49a793f6f143bd32309a6ccb2af81fd60a57e476660d39d7a4b8d93be"));
    assert_eq!(*keys(Aes256Gcm, None, schedule::CLIENT_TO_SERVER).iv, hex("54390616331819706d6e558a"));
    let to_client = keys(Aes256Gcm, None, schedule::SERVER_TO_CLIENT);
    assert_eq!(*to_client.key, hex("c06d134a851adf53e0824f51633214049ecbf10ef60699de426db040eb2331d5"));
}
