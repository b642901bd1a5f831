//! The keeper as its clients meet it, in memory and in virtual time; and a login whose signature comes from it.

// A test that cannot go on says so by panicking; virtual time starts at some instant.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::disallowed_methods)]

use std::time::{Duration, Instant};

use lantern_keys::{KeyAlgorithm, PrivateKey, RsaBits, SecretBytes, Signature, SignatureAlgorithm};
use lantern_ssh::agent::{
    AgentRequest, AgentResponse, Constraints, Frames, Keeper, MAX_FRAME_LEN, MAX_KEYS, Outcome, PlainVault,
    SignFlags,
};
use proptest::prelude::*;

fn key(comment: &str) -> PrivateKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, comment).unwrap()
}

fn copy(key: &PrivateKey) -> Box<PrivateKey> {
    let form = key.to_agent_form().unwrap();
    Box::new(PrivateKey::from_agent_form(&mut lantern_keys::wire::Reader::new(&form)).unwrap())
}

/// A keeper behind the wire: every request and answer is encoded and decoded on its way.
struct Wire {
    keeper: Keeper,
    now: Instant,
}

impl Wire {
    fn new(can_ask: bool) -> Self {
        Self { keeper: Keeper::new(Box::new(PlainVault::default()), can_ask), now: Instant::now() }
    }

    fn outcome(&mut self, request: &AgentRequest) -> Outcome {
        let decoded = AgentRequest::decode(&request.encode().unwrap()).unwrap();
        self.keeper.handle(decoded, self.now)
    }

    fn ask(&mut self, request: &AgentRequest) -> AgentResponse {
        match self.outcome(request) {
            Outcome::Answer(answer) => AgentResponse::decode(&answer.encode()).unwrap(),
            Outcome::Confirm(task) => panic!("{task:?}"),
            Outcome::Later(..) => panic!("not yet"),
        }
    }

    fn add(&mut self, key: &PrivateKey, constraints: Constraints) -> AgentResponse {
        self.ask(&AgentRequest::Add { key: copy(key), constraints })
    }

    fn comments(&mut self) -> Vec<String> {
        let AgentResponse::Identities(identities) = self.ask(&AgentRequest::List) else { panic!() };
        identities.into_iter().map(|identity| identity.comment).collect()
    }
}

fn sign(key: &PrivateKey, flags: u32) -> AgentRequest {
    AgentRequest::Sign {
        blob: key.public().encode(),
        data: b"the lamp is lit".to_vec(),
        flags: SignFlags(flags),
    }
}

#[test]
fn keys_are_held_sign_and_are_forgotten() {
    let mut wire = Wire::new(false);
    let (lamp, horn) = (key("lamp"), key("horn"));
    assert_eq!(wire.add(&lamp, Constraints::default()), AgentResponse::Success);
    let lifetime = Constraints { lifetime: Some(60), confirm: false };
    assert_eq!(wire.add(&horn, lifetime), AgentResponse::Success);
    assert_eq!(wire.comments(), ["lamp", "horn"]);
    let AgentResponse::Signature(signature) = wire.ask(&sign(&horn, 0)) else { panic!() };
    horn.public().verify(b"the lamp is lit", &Signature::decode(&signature).unwrap()).unwrap();
    assert_eq!(wire.ask(&sign(&key("stranger"), 0)), AgentResponse::Failure);
    // Its time is over.
    assert_eq!(wire.keeper.poll_timeout(), Some(wire.now + Duration::from_secs(60)));
    wire.now += Duration::from_secs(60);
    assert_eq!(wire.comments(), ["lamp"]);
    assert_eq!(wire.ask(&sign(&horn, 0)), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::Remove(horn.public().encode())), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::Remove(lamp.public().encode())), AgentResponse::Success);
    assert!(wire.comments().is_empty());
    // There is room for so many, and one that goes makes room.
    for number in 0..MAX_KEYS {
        assert_eq!(wire.add(&key(&number.to_string()), Constraints::default()), AgentResponse::Success);
    }
    assert_eq!(wire.add(&lamp, Constraints::default()), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::RemoveAll), AgentResponse::Success);
    assert_eq!(wire.add(&lamp, Constraints::default()), AgentResponse::Success);
    assert!(matches!(
        wire.ask(&AgentRequest::Extension { name: "query".into(), content: vec![] }),
        AgentResponse::Extension { .. }
    ));
    assert_eq!(
        wire.ask(&AgentRequest::Extension { name: "lamp@example".into(), content: vec![] }),
        AgentResponse::Failure
    );
}

#[test]
fn rsa_keys_sign_with_sha_2_or_not_at_all() {
    let mut wire = Wire::new(false);
    let rsa = PrivateKey::generate(KeyAlgorithm::Rsa(RsaBits::B2048), "").unwrap();
    wire.add(&rsa, Constraints::default());
    for (flags, algorithm) in [
        (2, SignatureAlgorithm::RsaSha256),
        (4, SignatureAlgorithm::RsaSha512),
        (6, SignatureAlgorithm::RsaSha512),
    ] {
        let AgentResponse::Signature(signature) = wire.ask(&sign(&rsa, flags)) else { panic!() };
        let signature = Signature::decode(&signature).unwrap();
        assert_eq!(signature.algorithm, algorithm);
        rsa.public().verify(b"the lamp is lit", &signature).unwrap();
    }
    assert_eq!(wire.ask(&sign(&rsa, 0)), AgentResponse::Failure);
}

#[test]
fn locked_it_shows_and_does_nothing_until_the_same_passphrase() {
    let mut wire = Wire::new(false);
    let lamp = key("lamp");
    wire.add(&lamp, Constraints::default());
    let secret = |text: &str| SecretBytes::new(text.as_bytes().to_vec());
    assert_eq!(wire.ask(&AgentRequest::Unlock(secret("foghorn"))), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::Lock(secret("foghorn"))), AgentResponse::Success);
    assert!(wire.comments().is_empty());
    assert_eq!(wire.ask(&sign(&lamp, 0)), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::RemoveAll), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::Lock(secret("another"))), AgentResponse::Failure);
    assert_eq!(wire.ask(&AgentRequest::Unlock(secret("foghorm"))), AgentResponse::Failure);
    wire.now += Duration::from_millis(500);
    assert_eq!(wire.ask(&AgentRequest::Unlock(secret("foghorn"))), AgentResponse::Success);
    assert_eq!(wire.comments(), ["lamp"]);
}

/// Each wrong passphrase makes the next wait, the right one too, up to some seconds; once unlocked, it starts over.
#[test]
fn passphrases_cannot_be_tried_quickly() {
    let mut wire = Wire::new(false);
    let secret = |text: &str| SecretBytes::new(text.as_bytes().to_vec());
    let wrong = AgentRequest::Unlock(secret("foghorm"));
    // What is not locked is not guessed at.
    assert_eq!(wire.ask(&wrong), AgentResponse::Failure);
    assert_eq!(wire.ask(&wrong), AgentResponse::Failure);
    wire.ask(&AgentRequest::Lock(secret("foghorn")));
    for expected in [500, 1000, 2000, 4000, 8000, 8000, 8000] {
        assert_eq!(wire.ask(&wrong), AgentResponse::Failure);
        for word in ["foghorm", "foghorn"] {
            let Outcome::Later(at, AgentRequest::Unlock(kept)) =
                wire.outcome(&AgentRequest::Unlock(secret(word)))
            else {
                panic!("{word}")
            };
            assert_eq!((at, kept), (wire.now + Duration::from_millis(expected), secret(word)));
        }
        // Other requests do not wait.
        assert!(wire.comments().is_empty());
        wire.now += Duration::from_millis(expected);
    }
    assert_eq!(wire.ask(&AgentRequest::Unlock(secret("foghorn"))), AgentResponse::Success);
    wire.ask(&AgentRequest::Lock(secret("foghorn")));
    assert_eq!(wire.ask(&wrong), AgentResponse::Failure);
    wire.now += Duration::from_millis(500);
    assert_eq!(wire.ask(&AgentRequest::Unlock(secret("foghorn"))), AgentResponse::Success);
}

#[test]
fn a_key_that_wants_a_yes_waits_for_it_and_is_refused_where_nobody_can_be_asked() {
    let confirm = Constraints { lifetime: None, confirm: true };
    let lamp = key("lamp");
    assert_eq!(Wire::new(false).add(&lamp, confirm), AgentResponse::Failure);
    let mut wire = Wire::new(true);
    assert_eq!(wire.add(&lamp, confirm), AgentResponse::Success);
    let Outcome::Confirm(task) = wire.outcome(&sign(&lamp, 0)) else { panic!() };
    assert_eq!((&task.key, task.comment.as_str()), (lamp.public(), "lamp"));
    assert!(matches!(wire.keeper.sign(&task), AgentResponse::Signature(_)));
    // Forgotten, or locked, while the person was thinking.
    wire.ask(&AgentRequest::Lock(SecretBytes::new(b"x".to_vec())));
    assert_eq!(wire.keeper.sign(&task), AgentResponse::Failure);
    wire.ask(&AgentRequest::Unlock(SecretBytes::new(b"x".to_vec())));
    wire.ask(&AgentRequest::RemoveAll);
    assert_eq!(wire.keeper.sign(&task), AgentResponse::Failure);
}

#[test]
fn a_condition_that_is_not_known_is_not_taken() {
    let mut message = AgentRequest::Add {
        key: Box::new(key("lamp")),
        constraints: Constraints { lifetime: Some(5), confirm: false },
    }
    .encode()
    .unwrap()
    .to_vec();
    message.push(255);
    assert!(matches!(AgentRequest::decode(&message), Ok(AgentRequest::Unknown)));
    assert!(matches!(AgentRequest::decode(&[20, 0, 0, 0, 0]), Ok(AgentRequest::Unknown)));
}

proptest! {
    /// However a stream is cut, the same messages come out; what is announced too long is refused at once.
    #[test]
    fn frames_survive_any_cut(messages in prop::collection::vec(prop::collection::vec(any::<u8>(), 1..300), 0..6), cut in 1usize..64) {
        let stream: Vec<u8> = messages.iter().flat_map(|message| Frames::wrap(message).to_vec()).collect();
        let mut frames = Frames::default();
        let mut out = Vec::new();
        for piece in stream.chunks(cut) {
            frames.feed(piece);
            while let Some(frame) = frames.next_frame().unwrap() {
                out.push(frame.to_vec());
            }
        }
        prop_assert_eq!(out, messages);
        frames.feed(&(MAX_FRAME_LEN as u32 + 1).to_be_bytes());
        prop_assert_eq!(frames.next_frame(), Err(MAX_FRAME_LEN + 1));
    }

    #[test]
    fn arbitrary_messages_are_survived(bytes: Vec<u8>, number in 5u8..30) {
        let _ = AgentRequest::decode(&bytes);
        let _ = AgentResponse::decode(&bytes);
        let bytes = [&[number][..], &bytes].concat();
        let _ = AgentRequest::decode(&bytes);
        let _ = AgentResponse::decode(&bytes);
    }
}
