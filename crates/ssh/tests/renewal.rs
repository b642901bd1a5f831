//! Guesses and re-exchanges: what is guessed never changes what is chosen, the trusted key stays the key, and nobody waits for ever.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

mod pair;

use std::time::Duration;

use lantern_keys::{Curve, SignatureAlgorithm};
use lantern_ssh::algorithm::KexAlgorithm;
use lantern_ssh::{
    Attempt, AuthEvent, ChannelEvent, ClientEvent, Guess, Machine, Offer, RekeyPolicy, SshError, Stream,
};
use pair::{Pair, client_config, host_keys, server_config};
use proptest::prelude::*;

/// Methods that cost little: the property is about lists.
const KEX: [KexAlgorithm; 4] = [
    KexAlgorithm::MlKem768X25519,
    KexAlgorithm::Sntrup761X25519,
    KexAlgorithm::Curve25519,
    KexAlgorithm::Ecdh(Curve::P256),
];

fn connect(client: &Offer, server: &Offer, guess: Option<Guess>) -> Pair {
    let mut config = client_config(client.clone());
    config.guess = guess;
    let mut pair = Pair::new(config, server_config(server.clone()));
    pair.latency = Duration::from_millis(1);
    pair.client.authenticate(Attempt::PublicKey(host_keys()[0].clone()), pair.now).unwrap();
    pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(()));
    pair
}

fn offers() -> impl Strategy<Value = Offer> {
    let kex = proptest::sample::subsequence(KEX.to_vec(), 1..=KEX.len()).prop_shuffle();
    let keys = vec![
        SignatureAlgorithm::Ed25519,
        SignatureAlgorithm::Ecdsa(Curve::P256),
        SignatureAlgorithm::RsaSha512,
    ];
    let host_keys = proptest::sample::subsequence(keys, 1..=3).prop_shuffle();
    (kex, host_keys).prop_map(|(kex, host_keys)| Offer { kex, host_keys, ..Offer::new(true) })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// For all pairs of lists: what a visit with a guess ends up with is what one without ends up with, or it ends, saying that
    /// the guess is out of date. The guess that a visit teaches is never out of date for the same lists, and is right.
    #[test]
    fn a_guess_never_changes_what_is_chosen(
        client in offers(),
        server in offers(),
        kex in 0..KEX.len(),
        host_key in 0..3usize,
    ) {
        let plain = connect(&client, &server, None);
        let wild = Guess { kex: KEX[kex], host_key: [SignatureAlgorithm::Ed25519, SignatureAlgorithm::Ecdsa(Curve::P256), SignatureAlgorithm::RsaSha512][host_key] };
        let guessed = connect(&client, &server, Some(wild));
        match (&guessed.client_error, plain.client.algorithms()) {
            (Some(SshError::GuessOutdated), Some(_)) => prop_assert_eq!(guessed.client.algorithms(), None),
            (_, chosen) => prop_assert_eq!(guessed.client.algorithms(), chosen),
        }
        if let Some(guess) = plain.client.next_guess().cloned() {
            let mut client = client.clone();
            client.prefer_host_keys(&[guess.host_key]);
            let second = connect(&client, &server, Some(guess.clone()));
            prop_assert_eq!(&second.client_error, &None);
            let unguessed = connect(&client, &server, None);
            prop_assert_eq!(second.client.algorithms(), unguessed.client.algorithms());
            prop_assert_eq!(second.client.algorithms().map(|all| all.kex), plain.client.algorithms().map(|all| all.kex));
            prop_assert_eq!(second.client.next_guess(), Some(&guess));
            // It is right: it saves the wait for the server's offer.
            prop_assert!(second.now - second.start < plain.now - plain.start);
        }
    }

    /// Whatever key types a server has and whichever of them was trusted: a re-exchange stays with that key.
    #[test]
    fn a_renewal_keeps_to_the_trusted_key(client in offers(), server in offers(), by_server: bool) {
        let mut config = client_config(client);
        let mut serving = server_config(server);
        let policy = RekeyPolicy { bytes: 20_000, ..RekeyPolicy::default() };
        match by_server {
            true => serving.rekey = policy,
            false => config.rekey = policy,
        }
        let mut pair = Pair::new(config, serving);
        pair.latency = Duration::from_millis(1);
        pair.client.authenticate(Attempt::PublicKey(host_keys()[0].clone()), pair.now).unwrap();
        let done = pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(()));
        prop_assume!(done.is_some());
        let trusted = pair.client.host_key().cloned();
        let id = pair.client.open_session(pair.now).unwrap();
        pair.until(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::Opened)).then_some(())).unwrap();
        for _ in 0..6 {
            pair.send(id, &[5; 9_000]);
            let mut left = 9_000;
            pair.until_data(|_, _, data| {
                left -= data.len();
                (left == 0).then_some(())
            });
        }
        prop_assert_eq!((&pair.client_error, &pair.server_error), (&None, &None));
        prop_assert!(pair.client.statistics().key_exchanges > 2);
        prop_assert_eq!(pair.client.host_key().cloned(), trusted);
    }
}

/// The second visit to a server with three kinds of keys, with what the first one taught, through many renewals.
#[test]
fn a_second_visit_with_a_guess_lives_through_renewals_at_a_server_with_several_keys() {
    let server = Offer {
        kex: vec![KexAlgorithm::Sntrup761X25519, KexAlgorithm::Curve25519],
        host_keys: vec![
            SignatureAlgorithm::RsaSha512,
            SignatureAlgorithm::Ecdsa(Curve::P256),
            SignatureAlgorithm::Ed25519,
        ],
        ..Offer::new(true)
    };
    let mut config = client_config(Offer::new(true));
    // The client knows one of the server's keys, and not the one that both would otherwise agree on.
    config.known_host_keys = vec![host_keys()[1].public().clone()];
    config.offer.prefer_host_keys(&[SignatureAlgorithm::Ecdsa(Curve::P256)]);
    config.guess =
        Some(Guess { kex: KexAlgorithm::Sntrup761X25519, host_key: SignatureAlgorithm::Ecdsa(Curve::P256) });
    // That is the better of the two for this client and server: no guess may stand in for a stronger method.
    config.offer.kex.retain(|kex| *kex != KexAlgorithm::MlKem768X25519);
    config.rekey = RekeyPolicy { bytes: 100_000, ..RekeyPolicy::default() };
    let mut pair = Pair::new(config, server_config(server));
    pair.latency = Duration::from_millis(1);
    let id = pair.log_in();
    for _ in 0..20 {
        pair.send(id, &[7; 30_000]);
        let mut left = 30_000;
        pair.until_data(|_, _, data| {
            left -= data.len();
            (left == 0).then_some(())
        })
        .unwrap_or_else(|| panic!("{:?} {:?}", pair.client_error, pair.server_error));
    }
    assert!(pair.client.statistics().key_exchanges > 5);
}

/// A server that hears of our wish for new keys, says nothing to it, and goes on sending.
#[test]
fn a_renewal_that_is_never_answered_ends_the_connection() {
    let mut config = client_config(Offer::new(true));
    config.rekey = RekeyPolicy { time: Duration::from_secs(60), ..RekeyPolicy::default() };
    config.handshake_time = Duration::from_secs(10);
    let mut pair = Pair::new(config, server_config(Offer::new(true)));
    pair.latency = Duration::from_millis(1);
    let id = pair.log_in();
    // From here on the server hears nothing.
    let (mut now, cut) = (pair.now, pair.now);
    let error = loop {
        now += Duration::from_secs(1);
        let sent = pair.client.poll_transmit(now).len();
        pair.client.sent(sent);
        if let Err(error) = pair.client.handle_timeout(now) {
            break error;
        }
        pair.server.channel_send(id, Stream::Main, &mut "tick".into()).unwrap();
        let ticks = pair.server.poll_transmit(now).to_vec();
        pair.server.sent(ticks.len());
        pair.client.receive_buffer().extend_from_slice(&ticks);
        pair.client.handle_input(now).unwrap();
        assert!(now - cut < Duration::from_secs(100), "it waits for ever");
    };
    assert!(matches!(error, SshError::TimedOut { seconds: 10, .. }), "{error}");
    assert!(now - cut >= Duration::from_secs(69));
}

/// Four thousand channels, each with a keystroke now and then, beside one that sends a file: every one gets its turn, and
/// what a turn costs does not depend on how many there are.
#[test]
fn four_thousand_channels_have_their_turns() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.latency = Duration::from_millis(1);
    let bulk = pair.log_in();
    let ids: Vec<_> = (0..4_000).map(|_| pair.client.open_session(pair.now).unwrap()).collect();
    let mut opened = 0;
    while opened < ids.len() {
        pair.server_events.clear();
        assert!(pair.step());
        opened += pair.client_events.drain(..).count();
    }
    let file = bytes::Bytes::from(vec![1; 400_000]);
    let mut sent = 0;
    let mut echoed = std::collections::HashSet::new();
    for id in &ids {
        pair.send(*id, b"k");
    }
    let mut rounds = 0;
    while echoed.len() < ids.len() {
        let mut piece = file.clone();
        sent += pair.client.channel_send(bulk, &mut piece).unwrap();
        pair.client_events.clear();
        pair.server_events.clear();
        while let Some((id, _, mut data)) = pair.server_data.pop_front() {
            let len = data.len();
            if id != bulk {
                pair.server.channel_send(id, Stream::Main, &mut data).unwrap();
            }
            pair.server.channel_consumed(id, len, pair.now);
        }
        while let Some((id, _, data)) = pair.client_data.pop_front() {
            echoed.insert(id);
            pair.client.channel_consumed(id, data.len(), pair.now);
        }
        assert!(pair.step(), "{:?} {:?}", pair.client_error, pair.server_error);
        rounds += 1;
        assert!(rounds < 2_000, "{} of {} had a turn", echoed.len(), ids.len());
    }
    assert!(sent >= 400_000, "the file had its turns too: {sent}");
}
