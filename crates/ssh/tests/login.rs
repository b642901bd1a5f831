//! Authentication and channels between our two roles.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod pair;

use std::collections::HashMap;
use std::time::Duration;

use bytes::Bytes;
use lantern_keys::SecretString;
use lantern_ssh::{
    Attempt, AuthAnswer, AuthEvent, AuthMethod, ChannelEnded, ChannelEvent, ChannelId, ClientEvent,
    Forwarded, Offer, OpenFailure, PeerChannel, Prompt, Prompts, PtyRequest, ServerEvent, SessionRequest,
    SshError, Stream, TerminalSize,
};
use pair::{Pair, host_keys};

fn secret(text: &str) -> SecretString {
    SecretString::new(text.into())
}

fn reject(methods: &[&str], partial_success: bool) -> AuthAnswer {
    AuthAnswer::Reject { methods: methods.iter().map(|name| (*name).to_owned()).collect(), partial_success }
}

/// Runs until the client hears about authentication, deciding as `decide` says.
fn next_auth(pair: &mut Pair, mut decide: impl FnMut(AuthMethod) -> AuthAnswer) -> AuthEvent {
    loop {
        while let Some(event) = pair.server_events.pop_front() {
            if let ServerEvent::Auth(request) = event {
                assert_eq!(request.user, "keeper");
                let now = pair.now;
                pair.server.answer_auth(decide(request.method), now).unwrap();
            }
        }
        while let Some(event) = pair.client_events.pop_front() {
            if let ClientEvent::Auth(event) = event {
                return event;
            }
        }
        assert!(pair.step(), "{:?} {:?}", pair.client_error, pair.server_error);
    }
}

#[test]
fn several_methods_in_sequence_with_queries_prompts_and_a_password_change() {
    let mut pair = Pair::with_offer(Offer::new(true));
    let key = host_keys()[1].clone();
    let now = pair.now;

    pair.client.authenticate(Attempt::None, now).unwrap();
    assert!(matches!(pair.client.authenticate(Attempt::None, now), Err(SshError::Misuse(_))));
    let event = next_auth(&mut pair, |method| {
        assert!(matches!(method, AuthMethod::None));
        reject(&["publickey"], false)
    });
    assert_eq!(event, AuthEvent::Rejected { methods: vec!["publickey".into()], partial_success: false });

    pair.client.authenticate(Attempt::QueryPublicKey(key.public().clone()), pair.now).unwrap();
    let event = next_auth(&mut pair, |method| {
        assert!(matches!(method, AuthMethod::QueryPublicKey(_)));
        AuthAnswer::PublicKeyOk
    });
    assert_eq!(event, AuthEvent::PublicKeyAccepted(key.public().clone()));

    pair.client.authenticate(Attempt::PublicKey(key.clone()), pair.now).unwrap();
    let event = next_auth(&mut pair, |method| {
        assert!(matches!(method, AuthMethod::PublicKey(shown) if shown == *key.public()));
        reject(&["password"], true)
    });
    assert!(matches!(event, AuthEvent::Rejected { partial_success: true, .. }));

    pair.client.authenticate(Attempt::Password(secret("old")), pair.now).unwrap();
    let event = next_auth(&mut pair, |_| AuthAnswer::PasswordExpired("too old\x1b[2J".into()));
    assert_eq!(event, AuthEvent::PasswordExpired("too old␛[2J".into()));

    pair.client
        .authenticate(Attempt::ChangePassword { old: secret("old"), new: secret("new") }, pair.now)
        .unwrap();
    let event = next_auth(&mut pair, |method| {
        assert!(
            matches!(method, AuthMethod::ChangePassword { old, new } if old == secret("old") && new == secret("new"))
        );
        reject(&["keyboard-interactive"], true)
    });
    assert!(matches!(event, AuthEvent::Rejected { .. }));

    // Three rounds: two questions, one with echo; none at all; one more.
    pair.client.authenticate(Attempt::KeyboardInteractive, pair.now).unwrap();
    let rounds = [vec![("Code: ", false), ("Lamp: ", true)], vec![], vec![("Again: ", false)]];
    for (round, prompts) in rounds.iter().enumerate() {
        let asked = Prompts {
            name: format!("round {round}"),
            instruction: String::new(),
            prompts: prompts
                .iter()
                .map(|(text, echo)| Prompt { text: (*text).into(), echo: *echo })
                .collect(),
        };
        let event = next_auth(&mut pair, |method| {
            assert!(matches!(method, AuthMethod::KeyboardInteractive | AuthMethod::Answers(_)));
            AuthAnswer::Prompts(asked.clone())
        });
        assert_eq!(event, AuthEvent::Prompts(asked));
        let answers: Vec<_> = prompts.iter().map(|(text, _)| secret(text)).collect();
        pair.client.answer_prompts(&answers, pair.now).unwrap();
    }
    let event = next_auth(&mut pair, |method| {
        assert!(matches!(method, AuthMethod::Answers(answers) if answers == [secret("Again: ")]));
        AuthAnswer::Accept
    });
    assert_eq!(event, AuthEvent::Succeeded);
}

#[test]
fn an_rsa_key_logs_in_with_a_sha2_signature() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.client.authenticate(Attempt::PublicKey(host_keys()[4].clone()), pair.now).unwrap();
    let event = next_auth(&mut pair, |method| {
        assert!(matches!(method, AuthMethod::PublicKey(shown) if shown == *host_keys()[4].public()));
        AuthAnswer::Accept
    });
    assert_eq!(event, AuthEvent::Succeeded);
}

#[test]
fn channels_before_login_and_requests_after_it_are_refused_or_ignored() {
    let mut pair = Pair::with_offer(Offer::new(true));
    assert!(matches!(pair.client.open_session(pair.now), Err(SshError::Misuse(_))));
    let id = pair.log_in();
    assert!(matches!(pair.client.authenticate(Attempt::None, pair.now), Err(SshError::Misuse(_))));
    pair.client.channel_close(id);
    let closed =
        pair.until(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::Closed)).then_some(()));
    assert!(closed.is_some());
    assert_eq!(pair.client.channel_send(id, &mut Bytes::from_static(b"x")), Err(ChannelEnded));
}

#[test]
fn a_session_carries_every_request_and_tells_how_it_ended() {
    let mut pair = Pair::with_offer(Offer::new(true));
    let id = pair.log_in();
    let size = TerminalSize { columns: 132, rows: 43, width_px: 0, height_px: 0 };
    let pty = PtyRequest { terminal: "xterm-256color".into(), size, modes: vec![0] };
    let requests = [
        SessionRequest::Env { name: "LANG".into(), value: "C.UTF-8".into() },
        SessionRequest::Pty(pty),
        SessionRequest::Shell,
        SessionRequest::Exec(b"printf '\xff'".to_vec()),
        SessionRequest::Subsystem("sftp".into()),
        SessionRequest::WindowChange(size),
        SessionRequest::Signal("INT".into()),
        SessionRequest::Unknown("lamp@lighthouse.example".into()),
    ];
    for request in &requests {
        pair.client.channel_request(id, request, true).unwrap();
    }
    let mut heard = Vec::new();
    while heard.len() < requests.len() {
        assert!(pair.step());
        while let Some(event) = pair.server_events.pop_front() {
            if let ServerEvent::Channel(id, ChannelEvent::Request { request, want_reply: true }) = event {
                pair.server.channel_reply(id, !matches!(request, SessionRequest::Unknown(_))).unwrap();
                heard.push(request);
            }
        }
    }
    assert_eq!(heard, requests);
    let mut replies = Vec::new();
    pair.until(|event| {
        if let ClientEvent::Channel(_, ChannelEvent::Reply { granted, .. }) = event {
            replies.push(granted);
        }
        (replies.len() == requests.len()).then_some(())
    })
    .unwrap();
    assert_eq!(replies.iter().filter(|granted| **granted).count(), requests.len() - 1);

    let server_id = id;
    pair.server.channel_send(server_id, Stream::Stderr, &mut "the lamp is out".into()).unwrap();
    let exit =
        SessionRequest::ExitSignal { name: "TERM".into(), core_dumped: false, message: "snuffed".into() };
    pair.server.channel_request(server_id, &exit).unwrap();
    pair.server.channel_eof(server_id);
    pair.server.channel_close(server_id);
    pair.leave_data = true;
    let mut events = Vec::new();
    pair.until(|event| match event {
        ClientEvent::Channel(_, ChannelEvent::Closed) => Some(()),
        ClientEvent::Channel(_, event) => {
            events.push(event);
            None
        }
        _ => None,
    })
    .unwrap();
    assert_eq!(events[0], ChannelEvent::Readable(Stream::Stderr));
    assert_eq!(events[1], ChannelEvent::Request { request: exit, want_reply: false });
    assert_eq!(events[2], ChannelEvent::Eof);
    // What came before the end is there after it, until the channel is released.
    assert_eq!(pair.client.channel_take(id, Stream::Stderr).unwrap(), "the lamp is out");
    pair.client.channel_release(id);
    assert_eq!(pair.client.channel_take(id, Stream::Stderr), None);
}

#[test]
fn a_slow_reader_holds_its_own_channel_back_and_no_other() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.latency = Duration::from_millis(5);
    let slow = pair.log_in();
    let busy = pair.client.open_session(pair.now).unwrap();
    pair.until(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::Opened)).then_some(())).unwrap();
    let chunk = vec![7; 100_000];
    let mut sent: HashMap<ChannelId, usize> = HashMap::new();
    let mut received: HashMap<ChannelId, usize> = HashMap::new();
    for _ in 0..400 {
        let now = pair.now;
        for id in [slow, busy] {
            let mut chunk = Bytes::copy_from_slice(&chunk);
            *sent.entry(id).or_default() += pair.server.channel_send(id, Stream::Main, &mut chunk).unwrap();
        }
        pair.step();
        pair.server_events.clear();
        pair.client_events.clear();
        while let Some((id, _, data)) = pair.client_data.pop_front() {
            *received.entry(id).or_default() += data.len();
            if id == busy {
                pair.client.channel_consumed(id, data.len(), now);
            }
        }
    }
    assert_eq!(received[&slow], 2 * 1024 * 1024, "exactly one window");
    assert!(received[&busy] > 8 * 1024 * 1024, "{}", received[&busy]);
}

#[test]
fn hundreds_of_channels_live_side_by_side() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.log_in();
    let ids: Vec<_> = (0..300).map(|_| pair.client.open_session(pair.now).unwrap()).collect();
    let mut opened = 0;
    pair.until(|event| {
        opened += usize::from(matches!(event, ClientEvent::Channel(_, ChannelEvent::Opened)));
        (opened == ids.len()).then_some(())
    })
    .unwrap();
    for id in &ids {
        assert_eq!(pair.send(*id, id.to_string().as_bytes()), id.to_string().len());
    }
    let mut echoed = HashMap::new();
    pair.until_data(|id, _, data| {
        echoed.insert(id, data);
        (echoed.len() == ids.len()).then_some(())
    })
    .unwrap();
    assert!(ids.iter().all(|id| echoed[id] == id.to_string().as_bytes()));
}

#[test]
fn a_banner_before_login_is_shown_harmless_and_too_many_failures_end_it() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.client.authenticate(Attempt::None, pair.now).unwrap();
    while pair.server_events.is_empty() {
        pair.client_events.clear();
        assert!(pair.step());
    }
    pair.server.banner("Keepers only\x07\r\n").unwrap();
    let event = next_auth(&mut pair, |_| reject(&["password"], false));
    assert_eq!(event, AuthEvent::Banner("Keepers only␇\n".into()));
    assert!(matches!(next_auth(&mut pair, |_| unreachable!()), AuthEvent::Rejected { .. }));
    for _ in 0..19 {
        pair.client.authenticate(Attempt::Password(secret("wrong")), pair.now).unwrap();
        next_auth(&mut pair, |_| reject(&["password"], false));
    }
    pair.client.authenticate(Attempt::Password(secret("wrong")), pair.now).unwrap();
    while pair.server_error.is_none() {
        pair.client_events.clear();
        assert!(pair.server_events.is_empty(), "{:?}", pair.server_events);
        pair.step();
    }
    assert!(
        matches!(pair.server_error, Some(SshError::LimitExceeded { limit: 20, .. })),
        "{:?}",
        pair.server_error
    );
}

/// The signature comes from a keeper, in the same flight as one of our own would; and one that never comes hinders no other
/// attempt.
#[test]
fn a_login_is_signed_elsewhere() {
    let mut pair = Pair::with_offer(Offer::new(true));
    let key = host_keys()[4].clone();
    pair.client.authenticate(Attempt::SignElsewhere(key.public().clone()), pair.now).unwrap();
    for supply in [false, true] {
        let AuthEvent::SignatureWanted { key: asked, algorithm, data } =
            next_auth(&mut pair, |method| panic!("{method:?}"))
        else {
            panic!()
        };
        assert_eq!(asked, *key.public());
        if !supply {
            // Abandoned: another attempt takes its place.
            pair.client.authenticate(Attempt::SignElsewhere(key.public().clone()), pair.now).unwrap();
            continue;
        }
        let signature = key.sign(&data, algorithm).unwrap().encode();
        pair.client.supply_signature(&signature, pair.now).unwrap();
        assert!(matches!(pair.client.supply_signature(&signature, pair.now), Err(SshError::Misuse(_))));
    }
    let event = next_auth(&mut pair, |method| {
        assert!(matches!(&method, AuthMethod::PublicKey(given) if given == key.public()));
        AuthAnswer::Accept
    });
    assert_eq!(event, AuthEvent::Succeeded);
}

/// Channels that a server opens come as wanted, with their kind; what is answered to them is the caller's.
#[test]
fn a_server_reaches_what_its_channels_are_granted_and_nothing_else() {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.log_in();
    let originator = ("127.0.0.1".to_owned(), 4711);
    let display = PeerChannel::Display { originator: originator.clone() };
    let port = Forwarded { address: "127.0.0.1".into(), port: 8080, originator };
    for (wanted, granted) in [
        (PeerChannel::Agent, false),
        (PeerChannel::Agent, true),
        (display, true),
        (PeerChannel::Forwarded(port), false),
    ] {
        let now = pair.now;
        let id = pair.server.open_channel(&wanted, now).unwrap();
        let (at_client, met) = pair
            .until(|event| match event {
                ClientEvent::Channel(id, ChannelEvent::OpenWanted(met)) => Some((id, met)),
                _ => None,
            })
            .unwrap();
        assert_eq!(met, wanted);
        let refusal = OpenFailure { code: OpenFailure::PROHIBITED, description: "not forwarded".into() };
        pair.client.answer_open(at_client, if granted { Ok(()) } else { Err(refusal.clone()) }).unwrap();
        let answer = loop {
            match pair.server_events.pop_front() {
                Some(ServerEvent::Channel(of, ChannelEvent::Opened)) if of == id => break Ok(()),
                Some(ServerEvent::Channel(of, ChannelEvent::OpenFailed(why))) if of == id => break Err(why),
                Some(event) => pair.serve(event),
                None => assert!(pair.step()),
            }
        };
        assert_eq!(answer, if granted { Ok(()) } else { Err(refusal) });
    }
    // A session is nothing that a server opens (RFC 4254 §6.1), and a client opens no agent.
    assert_eq!(pair.client_error, None);
}
