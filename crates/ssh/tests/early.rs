//! A session that is opened together with the login: two round trips fewer where it works, and nothing lost where it does not.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod pair;

use std::time::Duration;

use lantern_ssh::{
    Attempt, AuthAnswer, AuthEvent, AuthMethod, ChannelEvent, ClientEvent, EarlySession, Offer, ServerEvent,
    SessionRequest, SshError,
};
use pair::{Pair, host_keys};

fn exec() -> SessionRequest {
    SessionRequest::Exec(b"hostname".to_vec())
}

fn early(number: Option<u32>) -> EarlySession {
    let language = SessionRequest::Env { name: "LANG".into(), value: "C".into() };
    EarlySession { number, requests: vec![(language, false), (exec(), true)], unless: None }
}

/// Lets keys in, or says no; grants every request. What the server was asked on the session, and what the client heard of it, up to `enough` of that.
fn run(pair: &mut Pair, lets_in: bool, enough: usize) -> (Vec<String>, Vec<ChannelEvent>) {
    let (mut asked, mut heard) = (Vec::new(), Vec::new());
    loop {
        while let Some(event) = pair.server_events.pop_front() {
            match event {
                ServerEvent::Auth(request) => {
                    let answer = match request.method {
                        AuthMethod::PublicKey(_) if lets_in => AuthAnswer::Accept,
                        _ => AuthAnswer::Reject { methods: vec!["password".into()], partial_success: false },
                    };
                    // What follows the login in one flight is worked on here.
                    let _ = pair.server.answer_auth(answer, pair.now);
                }
                ServerEvent::Channel(id, ChannelEvent::Request { request, want_reply }) => {
                    asked.push(request.name().to_owned());
                    if want_reply {
                        pair.server.channel_reply(id, true).unwrap();
                    }
                }
                _ => {}
            }
        }
        while let Some(event) = pair.client_events.pop_front() {
            if let ClientEvent::Channel(id, event) = event {
                assert_eq!(Some(id), pair.client.early_session().map(|(id, _)| id));
                heard.push(event);
            }
        }
        if heard.len() >= enough || !pair.step() {
            return (asked, heard);
        }
    }
}

fn begin(early: Option<EarlySession>) -> Pair {
    let mut pair = Pair::with_offer(Offer::new(true));
    early.into_iter().for_each(|early| pair.client.open_with_login(early));
    let now = pair.now;
    pair.client.authenticate(Attempt::PublicKey(host_keys()[1].clone()), now).unwrap();
    pair
}

fn round_trips(pair: &Pair) -> f64 {
    (pair.now - pair.start).as_secs_f64() / (2.0 * pair.latency.as_secs_f64())
}

#[test]
fn requests_leave_with_the_login_and_are_answered_with_it() {
    let mut pair = begin(Some(early(Some(0))));
    assert!(!pair.client.early_was_sent(), "there are no keys yet");
    let (asked, heard) = run(&mut pair, true, 2);
    assert_eq!(asked, ["env", "exec"]);
    assert_eq!(heard, [ChannelEvent::Opened, ChannelEvent::Reply { request: "exec", granted: true }]);
    let all_at_once = round_trips(&pair);
    assert_eq!((pair.client.early_number(), pair.client.early_is_awaited()), (Some(0), false));
    // How long the way is is asked then, since windows grow by it.
    assert_eq!(pair.client.statistics().round_trip, None);
    while pair.step() {}
    assert_eq!(pair.client.statistics().round_trip, Some(2 * pair.latency));
    // The same, one after the other.
    let mut pair = begin(None);
    let login = |pair: &mut Pair| {
        pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(()))
    };
    login(&mut pair).unwrap();
    let id = pair.client.open_session(pair.now).unwrap();
    pair.until(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::Opened)).then_some(())).unwrap();
    pair.client.channel_request(id, &exec(), true).unwrap();
    let is_reply = |event: &ClientEvent| matches!(event, ClientEvent::Channel(_, ChannelEvent::Reply { .. }));
    while !pair.client_events.iter().any(is_reply) {
        while let Some(event) = pair.server_events.pop_front() {
            if let ServerEvent::Channel(id, ChannelEvent::Request { .. }) = event {
                pair.server.channel_reply(id, true).unwrap();
            }
        }
        pair.client_events.clear();
        assert!(pair.step());
    }
    assert!(
        (round_trips(&pair) - all_at_once - 2.0).abs() < 0.01,
        "{} and {all_at_once}",
        round_trips(&pair)
    );
    assert_eq!(pair.client.early_session(), None);
}

#[test]
fn without_a_number_the_session_alone_is_opened() {
    let mut pair = begin(Some(early(None)));
    let (asked, heard) = run(&mut pair, true, 1);
    assert_eq!((asked.len(), heard.as_slice()), (0, &[ChannelEvent::Opened][..]));
    let (id, with_requests) = pair.client.early_session().unwrap();
    assert!(!with_requests);
    // It is a session like any other.
    pair.client.channel_request(id, &exec(), true).unwrap();
    let (asked, heard) = run(&mut pair, true, 1);
    assert_eq!((asked, heard.len()), (vec!["exec".to_owned()], 1));
    // How long the login took says nothing of the way; what was asked after it does.
    assert_eq!(pair.client.statistics().round_trip, Some(2 * pair.latency));
}

#[test]
fn another_number_than_was_thought_ends_it_and_runs_nothing() {
    let mut pair = begin(Some(early(Some(7))));
    let (asked, heard) = run(&mut pair, true, 1);
    assert_eq!((asked.len(), heard.len()), (0, 0));
    assert_eq!(pair.client_error, Some(SshError::EarlyUnwelcome));
    assert!(pair.client.early_was_sent());
}

/// RFC 4252 §6: what comes before the login is complete may end the connection. Ours does.
#[test]
fn where_the_login_is_not_enough_nothing_is_opened() {
    let mut pair = begin(Some(early(Some(0))));
    let (asked, heard) = run(&mut pair, false, 1);
    assert_eq!((asked.len(), heard.len()), (0, 0));
    assert!(matches!(pair.client_error, Some(SshError::Disconnected(_))), "{:?}", pair.client_error);
    assert!(pair.client.early_was_sent() && pair.client.early_session().is_none());
}

#[test]
fn it_leaves_with_a_signature_alone_and_not_to_a_server_that_does_not_bear_it() {
    let mut met = begin(None);
    run(&mut met, true, 1);
    let identification = met.client.peer_identification().to_owned();
    let unless = EarlySession { unless: Some(identification), ..early(Some(0)) };
    let mut pair = begin(Some(unless));
    let done = pair.until(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)).then_some(()));
    assert!(done.is_some() && !pair.client.early_was_sent());
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.client.open_with_login(early(Some(0)));
    let now = pair.now;
    pair.client.authenticate(Attempt::QueryPublicKey(host_keys()[1].public().clone()), now).unwrap();
    run(&mut pair, false, 1);
    assert!(!pair.client.early_was_sent() && pair.client_error.is_none(), "a question is no login");
    assert!(pair.now - pair.start > Duration::ZERO);
}
