//! A connection that is joined: the connection protocol alone, between two that have shaken no hands.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_keys::{PublicKey, SystemRandom};
use lantern_ssh::{
    ChannelEvent, Client, ClientEvent, Joining, Machine, Offer, PeerChannel, Server, ServerConfig,
    ServerEvent, SessionRequest, SshError, Stream,
};

fn pair(now: Instant) -> (Client, Server) {
    let to = Joining {
        identification: "SSH-2.0-lamp".into(),
        host_key: Some(PublicKey::Ed25519([7; 32])),
        ..Joining::default()
    };
    let client = Client::joined("keeper", to, Box::new(SystemRandom), now).unwrap();
    (client, Server::joined(Box::new(SystemRandom), now).unwrap())
}

/// Moves everything both ways until nothing moves; the bytes that went.
fn move_all(client: &mut Client, server: &mut Server, now: Instant) -> Result<Vec<u8>, SshError> {
    let mut all = Vec::new();
    loop {
        let to_server = client.poll_transmit(now).to_vec();
        client.sent(to_server.len());
        let to_client = server.poll_transmit(now).to_vec();
        server.sent(to_client.len());
        if to_server.is_empty() && to_client.is_empty() {
            return Ok(all);
        }
        all.extend(to_server.iter().chain(&to_client));
        server.receive_buffer().extend_from_slice(&to_server);
        server.handle_input(now)?;
        client.receive_buffer().extend_from_slice(&to_client);
        client.handle_input(now)?;
    }
}

#[test]
fn channels_go_at_once_and_what_is_known_is_told() {
    let now = Instant::now();
    let (mut client, mut server) = pair(now);
    assert_eq!(client.peer_identification(), "SSH-2.0-lamp");
    assert_eq!(client.host_key(), Some(&PublicKey::Ed25519([7; 32])));
    // Nothing of a handshake is on the wire, and no login.
    assert!(client.poll_transmit(now).is_empty() && server.poll_transmit(now).is_empty());
    let id = client.open_session(now).unwrap();
    move_all(&mut client, &mut server, now).unwrap();
    let Some(ServerEvent::Channel(theirs, ChannelEvent::OpenWanted(PeerChannel::Session))) =
        server.poll_event()
    else {
        panic!()
    };
    server.answer_open(theirs, Ok(())).unwrap();
    move_all(&mut client, &mut server, now).unwrap();
    assert!(
        matches!(client.poll_event(), Some(ClientEvent::Channel(met, ChannelEvent::Opened)) if met == id)
    );
    client.channel_request(id, &SessionRequest::Shell, true).unwrap();
    client.channel_send(id, &mut Bytes::from_static(b"is the lamp lit")).unwrap();
    move_all(&mut client, &mut server, now).unwrap();
    assert!(matches!(
        server.poll_event(),
        Some(ServerEvent::Channel(_, ChannelEvent::Request { request: SessionRequest::Shell, .. }))
    ));
    assert_eq!(server.channel_take(theirs, Stream::Main).unwrap(), "is the lamp lit");
    server.open_channel(&PeerChannel::Agent, now).unwrap();
    move_all(&mut client, &mut server, now).unwrap();
    let wanted = std::iter::from_fn(|| client.poll_event())
        .any(|event| matches!(event, ClientEvent::Channel(_, ChannelEvent::OpenWanted(PeerChannel::Agent))));
    assert!(wanted);
    // Hours later it is as it was: no keys are renewed, since there are none.
    let later = now + Duration::from_secs(3 * 24 * 3600);
    client.handle_timeout(later).unwrap();
    server.handle_timeout(later).unwrap();
    assert!(move_all(&mut client, &mut server, later).unwrap().is_empty());
}

/// Whoever is at the other end cannot make a handshake of it, nor fall back to one.
#[test]
fn no_key_exchange_begins_on_a_joined_connection() {
    let now = Instant::now();
    let (mut client, mut server) = pair(now);
    server.send_anything(&[20; 64]).unwrap();
    assert!(matches!(move_all(&mut client, &mut server, now), Err(SshError::Unexpected { met: 20, .. })));
    let (mut client, mut server) = pair(now);
    client.send_anything(&[21]).unwrap();
    assert!(move_all(&mut client, &mut server, now).is_err());
    // And a connection that is none does not become one by what its peer says: a real server answers no bare packets.
    let mut client = pair(now).0;
    let key = lantern_keys::PrivateKey::generate(lantern_keys::KeyAlgorithm::Ed25519, "").unwrap();
    let config = ServerConfig::new(vec![key.into()], Offer::new(true), Box::new(SystemRandom));
    let mut real = Server::new(config, now).unwrap();
    client.open_session(now).unwrap();
    let bare = client.poll_transmit(now).to_vec();
    real.receive_buffer().extend_from_slice(&bare);
    let _ = real.handle_input(now);
    assert!(real.poll_event().is_none());
}
