//! Client CPU for one login against the sum of its cryptographic primitives alone. Goal: 1.35 times.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom};
use lantern_link::our_offer;
use lantern_ssh::{
    Attempt, AuthAnswer, AuthEvent, Client, ClientConfig, ClientEvent, Machine, Server, ServerConfig,
    ServerEvent,
};
use support::{cpu, median};

const ROUNDS: usize = 300;

fn main() {
    let host_key = Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, "lamp-01").unwrap());
    let user_key = Arc::new(PrivateKey::generate(KeyAlgorithm::Ed25519, "keeper").unwrap());
    let mut logins = Vec::new();
    let mut primitives = Vec::new();
    for _ in 0..ROUNDS {
        logins.push(login(&host_key, &user_key).as_secs_f64());
        primitives.push(support::floor(&host_key, &user_key).as_secs_f64());
    }
    let (login, floor) = (median(logins), median(primitives));
    println!(
        "client CPU for a login (mlkem768x25519, Ed25519 host and user key): {:.0} µs, its primitives alone {:.0} µs, ratio {:.2} (goal 1.35)",
        login * 1e6,
        floor * 1e6,
        login / floor
    );
    let seed = &mut |out: &mut [u8]| lantern_keys::RandomSource::fill(&mut SystemRandom, out);
    let pairs = (0..ROUNDS).map(|_| {
        let start = cpu();
        std::hint::black_box(lantern_ntru_prime::DecapsulationKey::generate(seed));
        (cpu() - start).as_secs_f64() * 1e3
    });
    println!("sntrup761, one pair of keys: {:.2} ms (goal 1)", median(pairs.collect()));
}

/// CPU of the client's side of one login in memory, up to success.
fn login(host_key: &Arc<PrivateKey>, user_key: &Arc<PrivateKey>) -> Duration {
    let mut spent = Duration::ZERO;
    let mut client = timed(&mut spent, || {
        let mut config = ClientConfig::new("keeper".into(), our_offer(), Box::new(SystemRandom));
        config.known_host_keys = vec![host_key.public().clone()];
        let mut client = Client::new(config, Instant::now()).unwrap();
        client.authenticate(Attempt::PublicKey(user_key.clone()), Instant::now()).unwrap();
        client
    });
    let config = ServerConfig::new(vec![host_key.clone()], our_offer(), Box::new(SystemRandom));
    let mut server = Server::new(config, Instant::now()).unwrap();
    loop {
        let sent = client.poll_transmit(Instant::now()).to_vec();
        client.sent(sent.len());
        server.receive_buffer().extend_from_slice(&sent);
        server.handle_input(Instant::now()).unwrap();
        while let Some(event) = server.poll_event() {
            if let ServerEvent::Auth(_) = event {
                server.answer_auth(AuthAnswer::Accept, Instant::now()).unwrap();
            }
        }
        let replied = server.poll_transmit(Instant::now()).to_vec();
        server.sent(replied.len());
        let done = timed(&mut spent, || {
            client.receive_buffer().extend_from_slice(&replied);
            client.handle_input(Instant::now()).unwrap();
            std::iter::from_fn(|| client.poll_event())
                .any(|event| matches!(event, ClientEvent::Auth(AuthEvent::Succeeded)))
        });
        if done {
            return spent;
        }
    }
}

fn timed<T>(spent: &mut Duration, work: impl FnOnce() -> T) -> T {
    let start = cpu();
    let outcome = work();
    *spent += cpu() - start;
    outcome
}
