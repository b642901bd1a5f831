//! What happens outside sessions: channels to other places, host keys that are announced and proven, ports asked for.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

mod pair;

use std::time::Duration;

use lantern_keys::PublicKey;
use lantern_ssh::{
    Attempt, AuthEvent, ChannelEvent, ClientEvent, DirectTcpip, GlobalEvent, ListenAt, Offer, OpenFailure,
    PeerChannel, ServerEvent,
};
use pair::Pair;

fn logged_in() -> Pair {
    let mut pair = Pair::with_offer(Offer::new(true));
    pair.log_in();
    pair
}

fn announced(pair: &mut Pair) -> Vec<PublicKey> {
    pair.until(|event| match event {
        ClientEvent::Global(GlobalEvent::HostKeysAnnounced(keys)) => Some(keys),
        _ => None,
    })
    .unwrap()
}

#[test]
fn host_keys_are_announced_and_proven_by_those_who_hold_them_only() {
    let mut pair = logged_in();
    pair.server.announce_host_keys().unwrap();
    let keys = announced(&mut pair);
    let own: Vec<PublicKey> = pair::host_keys().iter().map(|key| key.public().clone()).collect();
    assert_eq!(keys, own);
    pair.client.prove_host_keys(keys).unwrap();
    let proven = |pair: &mut Pair| {
        pair.until(|event| match event {
            ClientEvent::Global(GlobalEvent::HostKeysProven(keys)) => Some(keys),
            _ => None,
        })
        .unwrap()
    };
    assert_eq!(proven(&mut pair), own);
    // A key that the server only claims to have.
    let claimed = PublicKey::Ed25519([7; 32]);
    pair.client.prove_host_keys(vec![own[0].clone(), claimed]).unwrap();
    assert!(proven(&mut pair).is_empty());
    // A proof of another connection proves nothing here: the signature that comes back is over this session's identifier.
    let mut other = logged_in();
    other.server.announce_host_keys().unwrap();
    assert_eq!(announced(&mut other), own);
}

#[test]
fn a_channel_leads_to_another_place_or_is_refused_with_the_reason() {
    let mut pair = logged_in();
    let to = DirectTcpip { host: "lamp-02".into(), port: 22, originator: ("127.0.0.1".into(), 4711) };
    let id = pair.client.open_direct(&to, pair.now).unwrap();
    let wanted = |pair: &mut Pair| loop {
        while let Some(event) = pair.server_events.pop_front() {
            if let ServerEvent::Channel(id, ChannelEvent::OpenWanted(PeerChannel::Direct(to))) = event {
                return (id, to);
            }
        }
        assert!(pair.step());
    };
    let (server_id, met) = wanted(&mut pair);
    assert_eq!(met, to);
    pair.server.answer_open(server_id, Ok(())).unwrap();
    assert!(pair.server.answer_open(server_id, Ok(())).is_err());
    let opened =
        pair.until(|e| matches!(e, ClientEvent::Channel(o, ChannelEvent::Opened) if o == id).then_some(()));
    assert!(opened.is_some());
    // What goes in is echoed by the other side, as on any channel.
    pair.send(id, b"the fog lifts");
    let back = pair.until_data(|_, _, data| Some(data));
    assert_eq!(back.unwrap(), &b"the fog lifts"[..]);
    let refused = pair.client.open_direct(&to, pair.now).unwrap();
    let (server_id, _) = wanted(&mut pair);
    let failure = OpenFailure { code: OpenFailure::PROHIBITED, description: "no way through".into() };
    pair.server.answer_open(server_id, Err(failure.clone())).unwrap();
    let met = pair.until(|event| match event {
        ClientEvent::Channel(id, ChannelEvent::OpenFailed(failure)) if id == refused => Some(failure),
        _ => None,
    });
    assert_eq!(met, Some(failure));
    // Data on a channel that nobody has agreed to is a broken rule, not a panic.
    assert!(pair.client_error.is_none() && pair.server_error.is_none());
}

#[test]
fn a_port_that_the_server_does_not_give_is_told_as_that() {
    let mut pair = logged_in();
    pair.client.listen(&ListenAt::Tcp { address: "127.0.0.1".into(), port: 0 }).unwrap();
    let answer = pair.until(|event| match event {
        ClientEvent::Global(GlobalEvent::Listening { at, .. }) => Some(at),
        _ => None,
    });
    assert_eq!(answer, Some(None));
}

#[test]
fn the_limits_of_key_exchange_and_login_are_two() {
    let mut config = pair::client_config(Offer::new(true));
    config.handshake_time = Duration::from_secs(30);
    config.login_time = Duration::from_secs(5);
    let mut pair = Pair::new(config, pair::server_config(Offer::new(true)));
    pair.client.authenticate(Attempt::None, pair.now).unwrap();
    // The server never answers the login.
    while pair.client_error.is_none() {
        pair.client_events.clear();
        pair.server_events.clear();
        assert!(pair.step() || pair.client_error.is_some());
    }
    let waited = pair.now - pair.start;
    assert!(waited >= Duration::from_secs(5) && waited < Duration::from_secs(7), "{waited:?}");
    let _ = AuthEvent::Succeeded;
}
