//! Doors for the fuzz targets: plain functions over bytes, one for each group of decoders.

use std::sync::Arc;
use std::time::Instant;

use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom};

use crate::{Client, ClientConfig, Machine, Offer, Server, ServerConfig};

/// Every decoder of a message body.
pub fn decode_messages(bytes: &[u8]) {
    crate::message::transport::decode_anything(bytes);
    crate::message::auth::decode_anything(bytes);
    crate::message::connection::decode_anything(bytes);
    crate::terminal_modes::decode(bytes);
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
