//! The forwarded agent between a machine that asks and a keeper, over a line in memory.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../link/tests/scene/mod.rs"]
mod scene;

use std::future::ready;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use bytes::Bytes;
use lantern_keys::{KeyAlgorithm, PrivateKey};
use lantern_link::{AgentSocket, Answer, Answering, Ask, Question, Trunk};
use lantern_operations::AgentForward;
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames, Identity};
use lantern_ssh::{PeerChannel, SessionRequest, Stream, limits};
use scene::{Do, Machine, Scene, on_this_thread};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixListener;

/// An agent that lists a key and signs with anything.
fn agent(scene: &Scene) -> AgentSocket {
    let path = scene.folder.path().join("agent.sock");
    let listener = UnixListener::bind(&path).unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let mut frames = Frames::default();
                let mut buffer = vec![0; 4096];
                while let Ok(len @ 1..) = stream.read(&mut buffer).await {
                    frames.feed(&buffer[..len]);
                    while let Ok(Some(frame)) = frames.next_frame() {
                        let answer = match AgentRequest::decode(&frame) {
                            Ok(AgentRequest::List) => AgentResponse::Identities(vec![Identity {
                                blob: vec![7; 3000],
                                comment: "harbour".into(),
                            }]),
                            Ok(AgentRequest::Sign { .. }) => AgentResponse::Signature(vec![9; 80]),
                            _ => AgentResponse::Failure,
                        };
                        stream.write_all(&Frames::wrap(&answer.encode())).await.unwrap();
                    }
                }
            });
        }
    });
    AgentSocket { path, what: "the agent" }
}

/// Says yes or no at once, or never; counts.
struct Person {
    answer: Option<bool>,
    asked: AtomicUsize,
}

impl Ask for Person {
    fn ask(&self, question: Question) -> Answering {
        assert!(matches!(question, Question::Signature { .. }));
        self.asked.fetch_add(1, Ordering::Relaxed);
        match self.answer {
            Some(yes) => Box::pin(ready(if yes { Answer::Yes } else { Answer::No })),
            None => Box::pin(std::future::pending()),
        }
    }
}

fn person(answer: Option<bool>) -> Arc<Person> {
    Arc::new(Person { answer, asked: AtomicUsize::new(0) })
}

async fn forwarded(scene: &Scene, unasked: bool, ask: Arc<Person>) -> (Machine, Trunk) {
    let (machine, trunk) = scene.connect().await;
    AgentForward { socket: agent(scene), unasked }.serve(&trunk, ask);
    (machine, trunk)
}

fn wrapped(request: &AgentRequest) -> Bytes {
    Bytes::copy_from_slice(&Frames::wrap(&request.encode().unwrap()))
}

fn signing() -> AgentRequest {
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
    AgentRequest::Sign { blob: key.public().encode(), data: vec![1; 32], flags: Default::default() }
}

/// What the machine has heard back, as messages.
async fn answers(machine: &Machine, count: usize) -> Vec<AgentResponse> {
    machine
        .until(move |heard| {
            let mut frames = Frames::default();
            frames.feed(&heard.data);
            let all: Vec<_> = std::iter::from_fn(|| frames.next_frame().unwrap())
                .map(|frame| AgentResponse::decode(&frame).unwrap())
                .collect();
            (all.len() >= count).then_some(all)
        })
        .await
}

#[test]
fn a_machine_sees_keys_and_gets_signatures_that_were_allowed_and_nothing_else() {
    on_this_thread(async {
        for (unasked, yes) in [(false, true), (false, false), (true, false)] {
            let scene = Scene::new();
            let ask = person(Some(yes));
            let (machine, _trunk) = forwarded(&scene, unasked, ask.clone()).await;
            machine.tell(Do::Open(PeerChannel::Agent));
            machine.until(|heard| heard.opened.first().cloned()).await.unwrap();
            for request in [AgentRequest::List, signing(), AgentRequest::RemoveAll] {
                machine.tell(Do::Send(wrapped(&request)));
            }
            let answers = answers(&machine, 3).await;
            assert!(matches!(answers[0], AgentResponse::Identities(_)));
            assert_eq!(matches!(answers[1], AgentResponse::Signature(_)), unasked || yes);
            assert!(matches!(answers[2], AgentResponse::Failure), "it must not empty the agent");
            assert_eq!(ask.asked.load(Ordering::Relaxed), usize::from(!unasked));
        }
    });
}

/// Programs on the machine that ask and hang up at once: the session goes on.
#[test]
fn those_who_ask_and_hang_up_end_nothing() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = forwarded(&scene, false, person(None)).await;
        let session = trunk.open_session().await.unwrap();
        assert!(session.request(&SessionRequest::Exec(b"echo".to_vec())).await.unwrap());
        for round in 0..40 {
            machine.tell(Do::Open(PeerChannel::Agent));
            machine.until(|heard| heard.opened.get(round).cloned()).await.unwrap();
            machine.tell(Do::Send(wrapped(&AgentRequest::List)));
            // A question that nobody will answer, and half a message behind it.
            machine.tell(Do::Send(wrapped(&signing())));
            machine.tell(Do::Send(Bytes::from_static(&[0, 0, 1])));
            machine.tell(Do::HangUp);
            session.send(&mut Bytes::from_static(b"lit")).await.unwrap();
            assert_eq!(session.next(Stream::Main).await.unwrap(), "lit", "round {round}");
        }
        assert_eq!(machine.heard.lock().unwrap().end, None);
    });
}

/// A machine that asks for the list without end and never takes an answer makes nothing grow, and the session goes on.
#[test]
fn a_machine_that_does_not_listen_makes_nothing_grow() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = forwarded(&scene, true, person(None)).await;
        machine.tell(Do::Open(PeerChannel::Agent));
        machine.until(|heard| heard.opened.first().cloned()).await.unwrap();
        machine.tell(Do::TakeNothing);
        let question = wrapped(&AgentRequest::List);
        let flood = Bytes::from(question.repeat(4_000));
        for _ in 0..40 {
            machine.tell(Do::Send(flood.clone()));
            for _ in 0..20 {
                tokio::task::yield_now().await;
            }
        }
        let session = trunk.open_session().await.unwrap();
        assert!(session.request(&SessionRequest::Exec(b"echo".to_vec())).await.unwrap());
        // A window of questions, a queue of answers, and what is under way.
        let held = trunk.account().held;
        assert!(held < (24 << 20).min(limits::MAX_HELD), "{held}");
    });
}
