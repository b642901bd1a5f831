//! Peers that break rules: what is unexpected is fatal and stays so, and nothing that a peer sends makes us hold more than our limits.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

mod pair;

use std::time::Duration;

use bytes::Bytes;
use lantern_keys::wire::Writer;
use lantern_ssh::{
    Attempt, AuthAnswer, AuthEvent, ClientEvent, GlobalEvent, Machine, Offer, Prompt, Prompts, ServerEvent,
    SshError, Stream, limits,
};
use pair::{Pair, client_config, data, host_keys, logged_in, on_channel, payload, server_config};

/// Has the server send this, and steps until the client is through with it or has failed.
fn hear(pair: &mut Pair, payloads: &[Vec<u8>]) -> Option<SshError> {
    for payload in payloads {
        pair.server.send_anything(payload).unwrap();
    }
    for _ in 0..200 {
        pair.client_events.clear();
        pair.client_data.clear();
        pair.server_events.clear();
        pair.server_data.clear();
        if !pair.step() {
            break;
        }
    }
    pair.client_error.clone()
}

/// A pair whose client has asked to log in, and whose server has heard it.
fn asked_to_log_in() -> Pair {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.client.authenticate(Attempt::None, pair.now).unwrap();
    while pair.server_events.is_empty() {
        pair.client_events.clear();
        assert!(pair.step());
    }
    pair
}

#[test]
fn broken_rules_about_channels_end_the_connection_and_name_the_rule() {
    let confirmation = |window: u32, packet: u32| {
        on_channel(91, |out| [0, window, packet].iter().for_each(|field| out.put_uint32(*field)))
    };
    let unknown = payload(94, |out| {
        out.put_uint32(77);
        out.put_string(b"who?");
    });
    let cases: Vec<(&str, Vec<Vec<u8>>)> = vec![
        ("maximum packet size", vec![data(limits::MAX_CHANNEL_PACKET as usize + 1)]),
        ("window", (0..80).map(|_| data(30_000)).collect()),
        ("after EOF", vec![on_channel(96, |_| {}), data(1)]),
        ("not open", vec![unknown]),
        ("not open", vec![on_channel(97, |_| {}), on_channel(97, |_| {})]),
        ("not made", vec![on_channel(99, |_| {})]),
        ("not made", vec![payload(81, |_| {})]),
        ("not asked for", vec![confirmation(1 << 20, 32_768)]),
        ("2³²", vec![on_channel(93, |out| out.put_uint32(u32::MAX))]),
        ("malformed", vec![on_channel(94, |out| out.put_uint32(500))]),
    ];
    for (rule, payloads) in cases {
        let (mut pair, _) = logged_in();
        let error = hear(&mut pair, &payloads).unwrap_or_else(|| panic!("{rule}: nothing happened"));
        assert!(error.to_string().contains(rule), "{rule}: {error}");
    }
}

#[test]
fn a_packet_size_of_nothing_is_refused_instead_of_waited_for() {
    let (mut pair, _) = logged_in();
    let id = pair.client.open_session(pair.now).unwrap();
    pair.server_events.clear();
    // The server's own confirmation comes too late: ours is ahead of it.
    let confirmation = payload(91, |out| [1, 5, 1 << 20, 0].iter().for_each(|field| out.put_uint32(*field)));
    let error = hear(&mut pair, &[confirmation]);
    assert!(matches!(error, Some(SshError::PeerBroke { rule }) if rule.contains("must not be 0")), "{id}");
}

#[test]
fn what_failed_stays_failed_and_delivers_nothing_more() {
    let (mut pair, id) = logged_in();
    pair.leave_data = true;
    pair.server.send_anything(&data(10)).unwrap();
    pair.server.send_anything(&payload(81, |_| {})).unwrap();
    pair.server.send_anything(&data(20)).unwrap();
    while pair.client_error.is_none() {
        pair.client_events.clear();
        pair.step();
    }
    let error = pair.client_error.clone().unwrap();
    let mut heard = 0;
    for _ in 0..5 {
        assert_eq!(pair.client.handle_input(pair.now), Err(error.clone()));
        assert_eq!(pair.client.handle_timeout(pair.now), Err(error.clone()));
        assert_eq!(pair.client.handle_end(), error);
        while let Some(data) = pair.client.channel_take(id, Stream::Main) {
            heard += data.len();
        }
    }
    assert_eq!(heard, 10, "what came before the violation, and nothing after it");
    assert!(!pair.client.wants_input());
    assert_eq!(pair.client.poll_timeout(), None);
    assert!(pair.client.channel_send(id, &mut Bytes::from_static(b"x")).is_err());
    assert_eq!(pair.client.open_session(pair.now), Err(error));
    // One goodbye, however often it is driven on.
    let goodbye = pair.client.poll_transmit(pair.now).len();
    assert!((1..200).contains(&goodbye), "{goodbye}");
}

/// Every message number, with nothing behind it or with zeros, in four states of either role: taken, ignored or fatal, never a panic; and
/// what is fatal stays so.
#[test]
fn every_message_in_every_state_of_both_roles() {
    // What a logged-in peer may send at any time, whatever is in it; 94 to 97 and 93 with zeros speak of the first channel.
    let harmless_when_empty =
        |number: u8| matches!(number, 2..=4) || (128..=255).contains(&number) || (54..=59).contains(&number);
    for state in ["keys", "asked", "logged in"] {
        for number in 0..=255u8 {
            for body in [vec![], vec![0; 40]] {
                let mut message = vec![number];
                message.extend_from_slice(&body);
                for to_client in [true, false] {
                    let mut pair = Pair::with_offer(Offer::new(true));
                    pair.latency = Duration::from_millis(1);
                    match state {
                        "keys" => {
                            let established = |event| matches!(event, ClientEvent::Established).then_some(());
                            pair.until(established).unwrap();
                        }
                        "asked" => {
                            pair.client.authenticate(Attempt::None, pair.now).unwrap();
                            pair.until(|event| {
                                matches!(event, ClientEvent::Auth(AuthEvent::Rejected { .. })).then_some(())
                            })
                            .unwrap();
                        }
                        _ => drop(pair.log_in()),
                    }
                    match to_client {
                        true => pair.server.send_anything(&message).unwrap(),
                        false => pair.client.send_anything(&message).unwrap(),
                    }
                    for _ in 0..12 {
                        pair.client_events.clear();
                        pair.client_data.clear();
                        pair.server_data.clear();
                        while let Some(event) = pair.server_events.pop_front() {
                            if pair.server_error.is_none() && pair.client_error.is_none() {
                                pair.serve(event);
                            }
                        }
                        if !pair.step() {
                            break;
                        }
                    }
                    let (error, again) = match to_client {
                        true => (pair.client_error.clone(), pair.client.handle_input(pair.now)),
                        false => (pair.server_error.clone(), pair.server.handle_input(pair.now)),
                    };
                    match error {
                        Some(error) => assert_eq!(again, Err(error), "{state} {number}"),
                        None => assert_eq!(again, Ok(()), "{state} {number}"),
                    }
                    let failed = match to_client {
                        true => pair.client_error.is_some(),
                        false => pair.server_error.is_some(),
                    };
                    // Key exchange out of turn, messages of the other role, and connection messages before login end it.
                    let must_fail = matches!(number, 1 | 21 | 30..=49)
                        || (state != "logged in" && (80..128).contains(&number))
                        || (to_client && matches!(number, 5 | 50 | 61))
                        || (!to_client && matches!(number, 6 | 51..=53 | 60))
                        || (to_client && state == "keys" && matches!(number, 51 | 52 | 60));
                    assert!(failed || !must_fail, "{state} {number} to client: {to_client}");
                    if state == "logged in" && harmless_when_empty(number) && !(54..=59).contains(&number) {
                        assert!(!failed, "{number} {:?} {:?}", pair.client_error, pair.server_error);
                    }
                }
            }
        }
    }
}

#[test]
fn extensions_come_in_their_two_places_and_nowhere_else() {
    let extensions = payload(7, |out| {
        out.put_uint32(1);
        out.put_string(b"server-sig-algs");
        out.put_string(b"rsa-sha2-256");
    });
    // After login.
    let (mut pair, _) = logged_in();
    assert!(matches!(
        hear(&mut pair, std::slice::from_ref(&extensions)),
        Some(SshError::Unexpected { met: 7, .. })
    ));
    // While logging in, and then something else than success.
    let mut pair = asked_to_log_in();
    pair.server.send_anything(&extensions).unwrap();
    let answer = AuthAnswer::Reject { methods: vec!["publickey".into()], partial_success: false };
    pair.server.answer_auth(answer, pair.now).unwrap();
    pair.server_events.clear();
    while pair.client_error.is_none() {
        pair.client_events.clear();
        assert!(pair.step() || pair.client_error.is_some());
    }
    assert!(
        matches!(pair.client_error, Some(SshError::Unexpected { met: 51, .. })),
        "{:?}",
        pair.client_error
    );
    // While logging in, with success right behind: the second place.
    let mut pair = asked_to_log_in();
    pair.server.send_anything(&extensions).unwrap();
    pair.server.answer_auth(AuthAnswer::Accept, pair.now).unwrap();
    pair.server_events.clear();
    let done = pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(()));
    assert!(done.is_some(), "{:?}", pair.client_error);
}

/// EXT_INFO in clear, from a server that does not do strict key exchange: whoever stands in between could have put it there.
#[test]
fn extensions_in_clear_are_not_believed() {
    let mut pair = Pair::with_offer(Offer::new(true));
    let mut injected = false;
    pair.tamper = Some(Box::new(move |bytes| {
        let line = match bytes.iter().position(|byte| *byte == b'\n') {
            Some(at) if !injected => at + 1,
            _ => return,
        };
        injected = true;
        // No strict key exchange in this offer; then an EXT_INFO without extensions in a clear packet.
        let text = b"kex-strict-s";
        while let Some(at) = bytes.windows(text.len()).position(|window| window == text) {
            bytes[at..at + 4].copy_from_slice(b"xxxx");
        }
        let extensions = [0, 0, 0, 12, 6, 7, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
        bytes.splice(line..line, extensions);
    }));
    while pair.step() {}
    assert!(
        matches!(pair.client_error, Some(SshError::Unexpected { met: 7, .. })),
        "{:?}",
        pair.client_error
    );
}

/// A proof without signatures proves nothing, and costs nothing either.
#[test]
fn an_empty_proof_of_host_keys_is_no_proof_and_no_end() {
    let (mut pair, id) = logged_in();
    let own = host_keys()[0].public().clone();
    pair.client.prove_host_keys(vec![own]).unwrap();
    pair.server.send_anything(&payload(81, |_| {})).unwrap();
    let proven = pair.until(|event| match event {
        ClientEvent::Global(GlobalEvent::HostKeysProven(keys)) => Some(keys),
        _ => None,
    });
    assert_eq!(proven, Some(vec![]));
    assert_eq!(pair.send(id, b"still here"), 10);
}

#[test]
fn all_banners_together_are_as_long_as_one_may_be() {
    let mut pair = asked_to_log_in();
    for _ in 0..30 {
        pair.server.banner(&"fog ".repeat(10_000)).unwrap();
    }
    let mut shown = 0;
    while pair.client_error.is_none() {
        pair.server_events.clear();
        pair.step();
        for event in pair.client_events.drain(..) {
            if let ClientEvent::Auth(AuthEvent::Banner(text)) = event {
                shown += text.len();
            }
        }
    }
    // Banners are no answer: they do not keep a login alive.
    assert!(matches!(pair.client_error, Some(SshError::TimedOut { .. })));
    assert!((60_000..=limits::MAX_BANNERS_LEN).contains(&shown), "{shown}");
}

/// Prompts without questions, one after the other, answered at once: that ends too.
#[test]
fn a_login_has_so_many_rounds_and_so_much_time() {
    let empty = || Prompts { name: String::new(), instruction: String::new(), prompts: Vec::new() };
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.latency = Duration::from_millis(1);
    pair.client.authenticate(Attempt::KeyboardInteractive, pair.now).unwrap();
    let mut rounds = 0;
    while pair.client_error.is_none() {
        while let Some(event) = pair.server_events.pop_front() {
            if let ServerEvent::Auth(_) = event {
                pair.server.answer_auth(AuthAnswer::Prompts(empty()), pair.now).unwrap();
            }
        }
        for event in std::mem::take(&mut pair.client_events) {
            if let ClientEvent::Auth(AuthEvent::Prompts(_)) = event {
                rounds += 1;
                pair.client.answer_prompts(&[], pair.now).unwrap();
            }
        }
        pair.step();
    }
    assert!(matches!(pair.client_error, Some(SshError::LimitExceeded { .. })), "{:?}", pair.client_error);
    assert_eq!(rounds, limits::MAX_AUTH_ROUNDS);

    // Each answer just in time: all of them together take too long. What a person takes does not count.
    let mut config = client_config(Offer::new(true));
    config.login_time = Duration::from_secs(10);
    let mut server = server_config(Offer::new(true));
    server.handshake_time = Duration::from_secs(1_000_000);
    let mut pair = Pair::new(config, server);
    pair.latency = Duration::from_millis(1);
    pair.client.authenticate(Attempt::KeyboardInteractive, pair.now).unwrap();
    let question = || Prompts { prompts: vec![Prompt { text: "Code: ".into(), echo: true }], ..empty() };
    let (mut waited, mut person) = (Duration::ZERO, Duration::ZERO);
    while pair.client_error.is_none() {
        while let Some(event) = pair.server_events.pop_front() {
            if let ServerEvent::Auth(_) = event {
                let late = Duration::from_secs(9);
                let at = pair.now + late;
                waited += late;
                pair.advance_to(at);
                pair.server.answer_auth(AuthAnswer::Prompts(question()), pair.now).unwrap();
            }
        }
        for event in std::mem::take(&mut pair.client_events) {
            if let ClientEvent::Auth(AuthEvent::Prompts(_)) = event {
                let thinking = Duration::from_secs(300);
                person += thinking;
                let at = pair.now + thinking;
                pair.advance_to(at);
                let secret = lantern_keys::SecretString::new("1".into());
                pair.client.answer_prompts(&[secret], pair.now).unwrap();
            }
        }
        if !pair.step() && pair.client_error.is_none() {
            panic!("nothing happens any more after {waited:?}");
        }
    }
    assert!(matches!(pair.client_error, Some(SshError::TimedOut { .. })), "{:?}", pair.client_error);
    assert!((30..=50).contains(&waited.as_secs()) && person.as_secs() >= 900, "{waited:?} {person:?}");
}
