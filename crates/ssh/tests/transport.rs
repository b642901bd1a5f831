//! Transport behavior between our two roles: every algorithm, new keys under load, guesses, and attacks.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod pair;

use std::time::Duration;

use bytes::Bytes;
use lantern_keys::SignatureAlgorithm;
use lantern_ssh::algorithm::{CipherAlgorithm, KexAlgorithm, MacAlgorithm};
use lantern_ssh::{Attempt, AuthEvent, ClientEvent, Guess, Machine, Offer, RekeyPolicy, SshError, Stream};
use pair::{Pair, client_config, host_keys, server_config};
use proptest::prelude::*;

/// Sends a message through a fresh connection and back.
fn echo(offer: Offer, fragments: Vec<usize>, message: &[u8]) -> Pair {
    let mut pair = Pair::with_offer(offer);
    pair.fragments = fragments;
    let id = pair.log_in();
    assert_eq!(pair.send(id, message), message.len());
    let mut echoed = Vec::new();
    pair.until_data(|_, stream, data| {
        assert_eq!(stream, Stream::Main);
        echoed.extend_from_slice(&data);
        (echoed.len() >= message.len()).then_some(())
    })
    .unwrap_or_else(|| panic!("{:?} {:?}", pair.client_error, pair.server_error));
    assert_eq!(echoed, message);
    assert!(pair.client.is_strict() && pair.server.is_strict());
    pair
}

#[test]
fn every_kex_with_every_host_key_algorithm_connects() {
    for kex in KexAlgorithm::ALL {
        for host_key in SignatureAlgorithm::ALL {
            let offer = Offer { kex: vec![kex], host_keys: vec![host_key], ..Offer::new(true) };
            let pair = echo(offer, vec![], b"lamp lit");
            let chosen = pair.client.algorithms().unwrap();
            assert_eq!((chosen.kex, chosen.host_key), (kex, host_key));
            assert_eq!(pair.server.algorithms(), pair.client.algorithms());
        }
    }
}

#[test]
fn every_cipher_with_every_mac_carries_data_of_every_small_length() {
    for cipher in CipherAlgorithm::ALL {
        for mac in MacAlgorithm::ALL {
            let offer = Offer {
                kex: vec![KexAlgorithm::Curve25519],
                ciphers: vec![cipher],
                macs: vec![mac],
                ..Offer::new(true)
            };
            let mut pair = Pair::with_offer(offer);
            let id = pair.log_in();
            let chosen = pair.client.algorithms().unwrap().client_to_server;
            assert_eq!((chosen.cipher, chosen.mac), (cipher, (!cipher.is_aead()).then_some(mac)));
            for len in (1..40).chain([32_768, 65_536, 100_000]) {
                let message: Vec<u8> = (0..len).map(|at| (at % 251) as u8).collect();
                assert_eq!(pair.send(id, &message), len);
                let mut left = message.len();
                pair.until_data(|_, _, data| {
                    assert!(message[message.len() - left..].starts_with(&data));
                    left -= data.len();
                    (left == 0).then_some(())
                })
                .unwrap();
                let now = pair.now;
                pair.client.channel_consumed(id, len, now);
            }
        }
    }
}

#[test]
fn both_sides_renew_keys_under_load_and_nothing_is_lost_or_reordered() {
    let policy = RekeyPolicy { bytes: 300_000, ..Default::default() };
    for (client_bytes, server_bytes) in [(300_000, u64::MAX), (u64::MAX, 300_000), (300_000, 310_000)] {
        let mut client = client_config(Offer::new(true));
        let mut server = server_config(Offer::new(true));
        client.rekey = RekeyPolicy { bytes: client_bytes, ..policy };
        server.rekey = RekeyPolicy { bytes: server_bytes, ..policy };
        let mut pair = Pair::new(client, server);
        pair.latency = Duration::from_millis(1);
        let id = pair.log_in();
        // Counters in both directions at once, 4 MB each way, each side checking the other's.
        let total = 4_000_000usize;
        let pattern = |at: usize| (at / 3 % 253) as u8;
        let bytes: Vec<u8> = (0..total).map(pattern).collect();
        let (mut up_sent, mut up_received, mut down_sent, mut down_received) = (0, 0, 0, 0);
        let server_id = id;
        while up_received < total || down_received < total {
            let now = pair.now;
            let end = total.min(up_sent + 50_000);
            up_sent += pair.send(id, &bytes[up_sent..end]);
            let end = total.min(down_sent + 50_000);
            let mut piece = Bytes::copy_from_slice(&bytes[down_sent..end]);
            down_sent += pair.server.channel_send(server_id, Stream::Main, &mut piece).unwrap();
            assert!(pair.step(), "{:?} {:?}", pair.client_error, pair.server_error);
            pair.client_events.clear();
            pair.server_events.clear();
            while let Some((_, _, data)) = pair.client_data.pop_front() {
                assert_eq!(data, bytes[down_received..down_received + data.len()]);
                down_received += data.len();
                pair.client.channel_consumed(id, data.len(), now);
            }
            while let Some((server_id, _, data)) = pair.server_data.pop_front() {
                assert_eq!(data, bytes[up_received..up_received + data.len()]);
                up_received += data.len();
                pair.server.channel_consumed(server_id, data.len(), now);
            }
        }
        let exchanges = pair.client.statistics().key_exchanges;
        assert!(exchanges >= 8, "only {exchanges} key exchanges");
    }
}

#[test]
fn keys_are_renewed_after_an_hour() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.log_in();
    let due = pair.client.poll_timeout().unwrap();
    assert!((Duration::from_secs(3590)..=Duration::from_secs(3610)).contains(&(due - pair.start)));
    pair.advance_to(due);
    while pair.step() {}
    assert_eq!(pair.client.statistics().key_exchanges, 2);
    assert_eq!(pair.client_error, None);
}

#[test]
fn a_right_guess_saves_waiting_for_the_offer_and_a_wrong_one_costs_nothing() {
    let login_time = |guess: Option<Guess>, server_offer: Offer| {
        let mut client = client_config(Offer::new(true));
        client.guess = guess;
        let mut pair = Pair::new(client, server_config(server_offer));
        pair.client.authenticate(Attempt::PublicKey(host_keys()[0].clone()), pair.now).unwrap();
        pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(())).unwrap();
        ((pair.now - pair.start).as_millis(), pair.client.next_guess().cloned())
    };
    // 50 ms one way. This server sends its offer at once, so half a round trip is all that waiting for it costs;
    // behind a server that lets the client speak first, it is a whole one.
    let full = Offer::new(true);
    let (without, first) = login_time(None, full.clone());
    let (with, _) = login_time(first, full.clone());
    assert_eq!((without, with), (250, 200), "milliseconds from connecting to login");
    let reversed = Offer { kex: full.kex.iter().rev().copied().collect(), ..full };
    let wrong = Guess { kex: KexAlgorithm::MlKem768X25519, host_key: SignatureAlgorithm::Ed25519 };
    assert_eq!(login_time(Some(wrong), reversed.clone()).0, login_time(None, reversed).0);
}

#[test]
fn nothing_in_common_names_what_was_offered_and_what_retired_it() {
    let client = Offer { kex: vec![KexAlgorithm::Curve25519], ..Offer::new(true) };
    let server = Offer { kex: vec![KexAlgorithm::Group14], ..Offer::new(true) };
    let mut pair = Pair::new(client_config(client), server_config(server));
    while pair.step() {}
    let error = pair.client_error.unwrap();
    let SshError::NothingInCommon(detail) = &error else { panic!("{error}") };
    assert_eq!(detail.theirs, ["diffie-hellman-group14-sha256"]);
    let retired = lantern_ssh::algorithm::NothingInCommon {
        what: "key exchange method",
        theirs: vec!["diffie-hellman-group1-sha1".into()],
        ours: detail.ours.clone(),
    };
    assert!(retired.to_string().contains("RFC 9142"), "{retired}");
}

#[test]
fn a_flipped_bit_anywhere_after_the_first_keys_ends_the_connection() {
    for cipher in CipherAlgorithm::ALL {
        for mac in [MacAlgorithm::Sha256Etm, MacAlgorithm::Sha256] {
            for position in [0, 3, 4, 11, 30, usize::MAX] {
                let offer = Offer { ciphers: vec![cipher], macs: vec![mac], ..Offer::new(true) };
                let mut pair = Pair::with_offer(offer);
                let id = pair.log_in();
                pair.tamper = Some(Box::new(move |bytes| {
                    let at = position.min(bytes.len() - 1);
                    bytes[at] ^= 0x10;
                }));
                pair.send(id, b"are you there?");
                let data = pair.until_data(|_, _, data| Some(data));
                assert_eq!(data, None, "{cipher:?} {mac:?}: tampered data was delivered");
                // A damaged length may also make the client wait for more, never deliver.
                assert!(
                    matches!(pair.client_error, None | Some(SshError::MacMismatch)),
                    "{:?}",
                    pair.client_error
                );
            }
        }
    }
}

/// Prefix truncation: a packet slipped in before the keys would hide one that is cut off after them.
#[test]
fn a_stray_packet_before_the_keys_is_fatal_under_strict_key_exchange() {
    // SSH_MSG_IGNORE with an empty string, in a clear packet.
    let ignore = [0, 0, 0, 12, 6, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    for skip_identification in [false, true] {
        let mut pair = Pair::with_offer(Offer::new(true));
        let mut injected = false;
        pair.tamper = Some(Box::new(move |bytes| {
            if injected {
                return;
            }
            injected = true;
            let line = bytes.iter().position(|byte| *byte == b'\n').unwrap() + 1;
            // Right before KEXINIT, or right after it.
            let at = if skip_identification { bytes.len() } else { line };
            bytes.splice(at..at, ignore);
        }));
        while pair.step() {}
        assert!(
            matches!(
                pair.client_error,
                Some(SshError::Unexpected { met: 2, .. } | SshError::PeerBroke { .. })
            ),
            "{:?}",
            pair.client_error
        );
    }
}

#[test]
fn a_host_key_that_is_not_known_waits_for_a_decision() {
    let mut config = client_config(Offer::new(true));
    config.known_host_keys.clear();
    let mut pair = Pair::new(config, server_config(Offer::new(true)));
    pair.client.authenticate(Attempt::PublicKey(host_keys()[0].clone()), pair.now).unwrap();
    let key = pair.until(|event| match event {
        ClientEvent::HostKey(key) => Some(key),
        _ => None,
    });
    assert_eq!(key.as_ref(), Some(host_keys()[0].public()));
    assert!(!pair.client.wants_input());
    // A person takes as long as a person takes.
    pair.advance_to(pair.now + Duration::from_secs(3600 * 8));
    assert_eq!(pair.client_error, None);
    pair.server_error = None;

    let mut config = client_config(Offer::new(true));
    config.known_host_keys.clear();
    let mut pair = Pair::new(config, server_config(Offer::new(true)));
    pair.client.authenticate(Attempt::PublicKey(host_keys()[0].clone()), pair.now).unwrap();
    pair.until(|event| matches!(event, ClientEvent::HostKey(_)).then_some(())).unwrap();
    pair.client.accept_host_key(pair.now).unwrap();
    pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(())).unwrap();
}

#[test]
fn a_silent_server_times_out_and_a_dead_link_is_noticed() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.tamper = Some(Box::new(Vec::clear));
    while pair.step() {}
    let Some(SshError::TimedOut { seconds: 30, during }) = pair.client_error else {
        panic!("{:?}", pair.client_error)
    };
    assert!(during.contains("identification"));

    let mut config = client_config(Offer::new(true));
    config.keepalive = Some(Duration::from_secs(15));
    let mut pair = Pair::new(config, server_config(Offer::new(true)));
    pair.log_in();
    for _ in 0..20 {
        pair.step();
    }
    assert_eq!(pair.client_error, None, "answers to keepalives keep the link");
    let cut = pair.now;
    pair.tamper = Some(Box::new(Vec::clear));
    while pair.step() {}
    assert!(matches!(pair.client_error, Some(SshError::TimedOut { .. })), "{:?}", pair.client_error);
    assert!((40..=65).contains(&(pair.now - cut).as_secs()), "{:?}", pair.now - cut);
}

#[test]
fn what_is_not_ssh_is_shown() {
    for (answer, shown) in [
        (&b"HTTP/1.1 400 Bad Request\r\n\r\n"[..], "HTTP/1.1 400 Bad Request"),
        (b"\x1b[2J220 mail ready\r\n", "\\u{1b}[2J220 mail ready"),
        (b"SSH-1.5-OldLamp\r\n", "SSH-1.5-OldLamp"),
    ] {
        let mut pair = Pair::with_offer(Offer::new(true));
        pair.client.receive_buffer().extend_from_slice(answer);
        let error = match pair.client.handle_input(pair.now) {
            Ok(()) => pair.client.handle_end(),
            Err(error) => error,
        };
        assert!(error.to_string().contains(shown), "{error}");
    }
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.client.receive_buffer().extend_from_slice(&[b'x'; 10_000]);
    assert!(matches!(pair.client.handle_input(pair.now), Err(SshError::NotSsh { .. })));
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.client.receive_buffer().extend_from_slice(&b"notice\r\n".repeat(1025));
    assert!(matches!(pair.client.handle_input(pair.now), Err(SshError::LimitExceeded { limit: 1024, .. })));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn any_fragmentation_of_the_stream_gives_the_same_events(
        fragments in proptest::collection::vec(1usize..700, 1..40),
        cipher in 0usize..6,
        mac in 0usize..4,
    ) {
        let offer = Offer {
            kex: vec![KexAlgorithm::Curve25519],
            ciphers: vec![CipherAlgorithm::ALL[cipher]],
            macs: vec![MacAlgorithm::ALL[mac]],
            ..Offer::new(true)
        };
        let message: Vec<u8> = (0..5000u32).map(|at| (at * 7 % 256) as u8).collect();
        echo(offer, fragments, &message);
    }

    #[test]
    fn arbitrary_bytes_never_panic_either_role(bytes: Vec<u8>, with_identification: bool) {
        let mut pair = Pair::with_offer(Offer::new(true));
        let mut input = if with_identification { b"SSH-2.0-x\r\n".to_vec() } else { vec![] };
        input.extend_from_slice(&bytes);
        pair.client.receive_buffer().extend_from_slice(&input);
        let _ = pair.client.handle_input(pair.now);
        pair.server.receive_buffer().extend_from_slice(&input);
        let _ = pair.server.handle_input(pair.now);
    }
}
