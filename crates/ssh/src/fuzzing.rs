//! Doors for the fuzz targets: plain functions over bytes, one for each group of decoders.

use std::sync::Arc;
use std::time::Instant;

use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom};

use crate::algorithm::KexAlgorithm;
use crate::{
    Attempt, AuthAnswer, Client, ClientConfig, EarlySession, Machine, Offer, Server, ServerConfig,
    ServerEvent, SessionRequest,
};

/// Every decoder of a message body.
pub fn decode_messages(bytes: &[u8]) {
    crate::message::transport::decode_anything(bytes);
    crate::message::auth::decode_anything(bytes);
    crate::message::connection::decode_anything(bytes);
    crate::message::peer_channel::decode_anything(bytes);
    crate::terminal_modes::decode(bytes);
    if let Ok(Some(setup)) = crate::DisplaySetup::read(bytes) {
        assert_eq!(crate::DisplaySetup::read(&setup.encode()), Ok(Some(setup)));
    }
}

/// The agent protocol, both ways, and its frames.
pub fn agent_messages(bytes: &[u8]) {
    let mut frames = crate::agent::Frames::default();
    frames.feed(bytes);
    while let Ok(Some(frame)) = frames.next_frame() {
        let _ = crate::agent::AgentRequest::decode(&frame);
        let _ = crate::agent::AgentResponse::decode(&frame);
    }
    let _ = crate::agent::AgentRequest::decode(bytes);
    let _ = crate::agent::AgentResponse::decode(bytes);
}

/// Messages about files, both ways, and a client that has asked something of a server that says this.
pub fn file_messages(bytes: &[u8]) {
    use crate::sftp::{Answer, OpenFlags, SftpClient, SftpRequest};
    crate::sftp::decode_anything(bytes);
    let mut client = SftpClient::new();
    for piece in bytes.chunks(7) {
        if client.handle_input(bytes::Bytes::copy_from_slice(piece)).is_err() {
            assert!(client.failed().is_some(), "what failed stays failed");
            return;
        }
        if client.extensions().is_none() {
            continue;
        }
        if client.unanswered() < 4 {
            let path = b"/srv/lamp.conf".to_vec();
            client.ask(&SftpRequest::Open {
                path: path.clone(),
                flags: OpenFlags::READ,
                attributes: Default::default(),
            });
            client.ask(&SftpRequest::OpenFolder(path.clone()));
            client.ask(&SftpRequest::Stat(path));
            let unwanted = client.ask(&SftpRequest::Limits);
            client.give_up(unwanted);
        }
        while let Some((_, answer)) = client.poll_answer() {
            if let Ok(Answer::Opened(handle)) = answer {
                client.ask(&SftpRequest::read(&handle, 0, 100));
                client.ask(&SftpRequest::close(handle));
            }
        }
        while client.poll_transmit().is_some() {}
    }
}

/// A client that a hostile server talks to.
pub fn client_input(bytes: &[u8], now: Instant) {
    let config = ClientConfig::new("keeper".into(), Offer::new(true), Box::new(SystemRandom));
    if let Ok(mut client) = Client::new(config, now) {
        client.receive_buffer().extend_from_slice(bytes);
        let _ = client.handle_input(now);
    }
}

/// A server that a hostile client talks to.
pub fn server_input(bytes: &[u8], now: Instant) {
    let Ok(key) = PrivateKey::generate(KeyAlgorithm::Ed25519, "") else { return };
    let config = ServerConfig::new(vec![Arc::new(key)], Offer::new(true), Box::new(SystemRandom));
    if let Ok(mut server) = Server::new(config, now) {
        server.receive_buffer().extend_from_slice(bytes);
        let _ = server.handle_input(now);
    }
}

/// A client that is logged in, with a channel, and hears messages of any kind under good keys: what [`client_input`] never gets
/// as far as. The first byte says whether the login is still unanswered, and a session left with it; the first byte of a piece is its length.
pub fn client_after_login(bytes: &[u8], now: Instant) {
    let Some((first, mut rest)) = bytes.split_first() else { return };
    let Some((mut client, mut server)) = logged_in(first % 2 == 1, now) else { return };
    while let Some((len, more)) = rest.split_first() {
        let (message, more) = more.split_at(more.len().min(usize::from(*len)));
        rest = more;
        if message.is_empty() || server.send_anything(message).is_err() {
            continue;
        }
        let wire = server.poll_transmit(now).to_vec();
        server.sent(wire.len());
        client.receive_buffer().extend_from_slice(&wire);
        let outcome = client.handle_input(now);
        while let Some(event) = client.poll_event() {
            if let crate::ClientEvent::Channel(id, crate::ChannelEvent::Readable(stream)) = event {
                while let Some(data) = client.channel_take(id, stream) {
                    client.channel_consumed(id, data.len(), now);
                }
            }
        }
        assert!(client.held_bytes() < crate::limits::MAX_HELD);
        if let Err(error) = outcome {
            assert_eq!(client.handle_input(now), Err(error), "what failed stays failed");
            return;
        }
        let answers = client.poll_transmit(now).len();
        client.sent(answers);
    }
}

/// A client that is logged in and has opened a session; `early`: one that waits for the answer to its login, with a session and a command behind that.
fn logged_in(early: bool, now: Instant) -> Option<(Client, Server)> {
    let key = Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, "").ok()?);
    let offer = Offer { kex: vec![KexAlgorithm::Curve25519], ..Offer::new(true) };
    let mut config = ClientConfig::new("keeper".into(), offer.clone(), Box::new(SystemRandom));
    config.known_host_keys = vec![key.public().clone()];
    let mut client = Client::new(config, now).ok()?;
    let mut server =
        Server::new(ServerConfig::new(vec![key.clone()], offer, Box::new(SystemRandom)), now).ok()?;
    if early {
        let requests = vec![(SessionRequest::Exec(b"lamp".to_vec()), true)];
        client.open_with_login(EarlySession { number: Some(0), requests, unless: None });
        client.authenticate(Attempt::PublicKey(key), now).ok()?;
    } else {
        client.authenticate(Attempt::None, now).ok()?;
    }
    for _ in 0..8 {
        let to_server = client.poll_transmit(now).to_vec();
        client.sent(to_server.len());
        server.receive_buffer().extend_from_slice(&to_server);
        server.handle_input(now).ok()?;
        while let Some(event) = server.poll_event() {
            if let ServerEvent::Auth(_) = event {
                if early {
                    return Some((client, server));
                }
                server.answer_auth(AuthAnswer::Accept, now).ok()?;
            }
        }
        let to_client = server.poll_transmit(now).to_vec();
        server.sent(to_client.len());
        client.receive_buffer().extend_from_slice(&to_client);
        client.handle_input(now).ok()?;
        if client.open_session(now).is_ok() {
            return Some((client, server));
        }
    }
    None
}
