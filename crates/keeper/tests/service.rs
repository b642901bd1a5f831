//! The keeper's process on a socket, without the program around it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::future::Future;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::Duration;

use lantern_book::Home;
use lantern_keeper::{
    KeeperError, KeeperOptions, Trouble, find, listen, must, passwords_path, recall, remember, serve,
    socket_path, status, stop_request,
};
use lantern_keys::wire::Writer;
use lantern_keys::{KeyAlgorithm, PrivateKey, SecretBytes, SecretString};
use lantern_ssh::agent::{AgentRequest, AgentResponse, Constraints, Frames, SignFlags};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;

fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), future).await.expect("it hangs") })
}

/// A home with a keeper that serves.
async fn kept() -> (tempfile::TempDir, Home) {
    kept_asking(None).await
}

/// The same, whose keeper asks by a script.
async fn kept_asking(script: Option<&str>) -> (tempfile::TempDir, Home) {
    let folder = tempfile::tempdir().unwrap();
    let home = Home::new(folder.path().to_owned());
    let asks = script.map(|script| {
        let path = folder.path().join("ask");
        let script = format!("#!/bin/sh\ncd '{}'\n{script}\n", folder.path().display());
        std::fs::write(&path, script).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o700)).unwrap();
        path
    });
    let sockets = listen(&home).await.unwrap();
    tokio::spawn(serve(sockets, options(&home, asks)));
    (folder, home)
}

fn options(home: &Home, confirm_with: Option<std::path::PathBuf>) -> KeeperOptions {
    KeeperOptions {
        home: home.clone(),
        confirm_with,
        explain: std::sync::Arc::new(|trouble: Trouble| panic!("{trouble:?}")),
        idle: Duration::from_secs(600),
        reach: lantern_operations::ReachOptions::default(),
    }
}

fn key() -> PrivateKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "harbour").unwrap()
}

#[test]
fn it_holds_shows_locks_forgets_and_ends() {
    on_this_thread(async {
        let nowhere = Home::new("/nonexistent".into());
        assert!(status(&nowhere).await.unwrap().is_none());
        let (_folder, home) = kept().await;
        let key = key();
        let public = key.public().clone();
        let request = AgentRequest::Add {
            key: Box::new(key),
            constraints: Constraints { lifetime: Some(60), confirm: false },
        };
        must(&home, &request, "hold it").await.unwrap();
        let told = status(&home).await.unwrap().unwrap();
        assert_eq!((told.keys.len(), told.locked, told.asks_by_program), (1, false, false));
        assert_eq!((&told.keys[0].key, told.keys[0].remaining.unwrap() > 50), (&public, true));
        let lock = |bytes: &[u8]| SecretBytes::new(bytes.to_vec());
        must(&home, &AgentRequest::Lock(lock(b"fog")), "lock").await.unwrap();
        let refused = must(&home, &AgentRequest::Remove(public.encode()), "forget it").await;
        assert_eq!(refused.unwrap_err().to_string(), "the keeper would not forget it");
        assert!(status(&home).await.unwrap().unwrap().locked);
        must(&home, &AgentRequest::Unlock(lock(b"fog")), "unlock").await.unwrap();
        must(&home, &stop_request(), "stop").await.unwrap();
        while find(&home).await.unwrap().is_some() {
            tokio::task::yield_now().await;
        }
        assert!(matches!(must(&home, &stop_request(), "stop").await, Err(KeeperError::NotRunning)));
    });
}

/// Whoever connects, says something broken or nothing at all and goes away, disturbs nobody else.
#[test]
fn those_who_break_off_disturb_nobody() {
    on_this_thread(async {
        let (_folder, home) = kept().await;
        let path = socket_path(&home);
        let mut silent = Vec::new();
        for round in 0..60u8 {
            let mut stream = UnixStream::connect(&path).await.unwrap();
            match round % 3 {
                0 => stream.write_all(&[0, 0, 1, 0, 11]).await.unwrap(),
                // Announced longer than anything may be: the conversation ends.
                1 => {
                    stream.write_all(&[0xff; 8]).await.unwrap();
                    assert_eq!(stream.read(&mut [0; 8]).await.unwrap(), 0);
                }
                _ => silent.push(stream),
            }
        }
        assert!(status(&home).await.unwrap().is_some());
        // An answer that was given up is not taken for the next one.
        let mut client = find(&home).await.unwrap().unwrap();
        for _ in 0..20 {
            let asked = AgentRequest::Add {
                key: Box::new(key()),
                constraints: Constraints { lifetime: None, confirm: false },
            };
            let _ = tokio::time::timeout(Duration::ZERO, client.ask(&asked)).await;
            assert!(client.list().await.is_ok());
        }
    });
}

/// A key in the keeper that wants a person's yes for each use, and a request to sign with it.
async fn held_with_a_question(home: &Home) -> AgentRequest {
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "harbour\n\nAllow\tit\x1b[2J").unwrap();
    let blob = key.public().encode();
    let constraints = Constraints { lifetime: None, confirm: true };
    must(home, &AgentRequest::Add { key: Box::new(key), constraints }, "hold it").await.unwrap();
    AgentRequest::Sign { blob, data: b"the lamp is lit".to_vec(), flags: SignFlags(0) }
}

async fn send(home: &Home, request: &AgentRequest) -> UnixStream {
    let mut stream = UnixStream::connect(socket_path(home)).await.unwrap();
    stream.write_all(&Frames::wrap(&request.encode().unwrap())).await.unwrap();
    stream
}

async fn answer(mut stream: UnixStream) -> AgentResponse {
    let mut frames = Frames::default();
    loop {
        if let Some(frame) = frames.next_frame().unwrap() {
            return AgentResponse::decode(&frame).unwrap();
        }
        let mut buffer = [0; 1024];
        let len = stream.read(&mut buffer).await.unwrap();
        assert!(len > 0, "no answer");
        frames.feed(&buffer[..len]);
    }
}

async fn until_there(path: &Path) {
    while !path.exists() {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// Several want to sign at once: the person sees one question after the other, and the answer to one is not that to another.
#[test]
fn questions_come_one_at_a_time() {
    on_this_thread(async {
        // Two at once would see each other's folder. The third is refused.
        let script =
            "mkdir turn || touch twice; echo x >> asked; sleep 0.05; rmdir turn; test $(wc -l < asked) -ne 3";
        let (folder, home) = kept_asking(Some(script)).await;
        let sign = held_with_a_question(&home).await;
        let mut waiting = Vec::new();
        for _ in 0..6 {
            waiting.push(send(&home, &sign).await);
        }
        let mut refused = 0;
        for stream in waiting {
            refused += usize::from(answer(stream).await == AgentResponse::Failure);
        }
        assert_eq!(refused, 1);
        assert!(!folder.path().join("twice").exists());
    });
}

/// A comment that would like to be a question of its own stays on the line of the one that it belongs to.
#[test]
fn a_question_is_one_line_whatever_the_key_says() {
    on_this_thread(async {
        let (folder, home) = kept_asking(Some("printf '%s' \"$1\" > asked")).await;
        let sign = held_with_a_question(&home).await;
        assert!(matches!(answer(send(&home, &sign).await).await, AgentResponse::Signature(_)));
        let asked = std::fs::read_to_string(folder.path().join("asked")).unwrap();
        assert!(asked.starts_with("Allow one use of the key harbour  Allow it␛[2J ("), "{asked:?}");
        assert!(asked.chars().all(|c| !c.is_control()), "{asked:?}");
    });
}

/// Whoever hung up while another question was on the screen is not asked about.
#[test]
fn nobody_is_asked_for_those_who_have_gone() {
    on_this_thread(async {
        let script = "echo x >> asked; touch first; while ! test -e go; do sleep 0.02; done";
        let (folder, home) = kept_asking(Some(script)).await;
        let sign = held_with_a_question(&home).await;
        let first = send(&home, &sign).await;
        until_there(&folder.path().join("first")).await;
        for _ in 0..5 {
            drop(send(&home, &sign).await);
        }
        let last = send(&home, &sign).await;
        std::fs::write(folder.path().join("go"), "").unwrap();
        for stream in [first, last] {
            assert!(matches!(answer(stream).await, AgentResponse::Signature(_)));
        }
        assert_eq!(std::fs::read_to_string(folder.path().join("asked")).unwrap(), "x\nx\n");
    });
}

/// Wrong passphrases from many connections wait for each other; who does not want to unlock does not wait for them.
#[test]
fn many_who_guess_at_once_gain_nothing() {
    on_this_thread(async {
        let (_folder, home) = kept().await;
        let secret = |text: &str| SecretBytes::new(text.as_bytes().to_vec());
        must(&home, &AgentRequest::Lock(secret("foghorn")), "lock").await.unwrap();
        let since = tokio::time::Instant::now();
        let mut guessing = Vec::new();
        for word in ["a", "b", "foghorn"] {
            guessing.push(send(&home, &AgentRequest::Unlock(secret(word))).await);
            // In this order.
            assert!(status(&home).await.unwrap().unwrap().locked);
        }
        let mut answers = Vec::new();
        for stream in guessing {
            answers.push(answer(stream).await);
        }
        assert_eq!(answers, [AgentResponse::Failure, AgentResponse::Failure, AgentResponse::Success]);
        // At least: half a second behind the first, a second behind the second.
        assert!(since.elapsed() >= Duration::from_millis(1500));
    });
}

/// Other programs hand an agent's socket on to machines as it is: what can be asked there, a machine may ask.
#[test]
fn the_socket_of_an_agent_tells_no_password() {
    on_this_thread(async {
        let (_folder, home) = kept().await;
        let password = SecretString::new("high water".into());
        remember(&home, "chart-room", "keeper", &password, None).await.unwrap();
        let told = recall(&home, "chart-room", "keeper").await.unwrap().unwrap();
        assert_eq!(told.expose_secret(), "high water");
        let mode = std::fs::metadata(passwords_path(&home)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        let mut agent = find(&home).await.unwrap().unwrap();
        let mut content = Vec::new();
        content.put_string(b"chart-room");
        content.put_string(b"keeper");
        for name in ["recall@brass-lantern", "disown@brass-lantern"] {
            let request = AgentRequest::Extension { name: name.into(), content: content.clone() };
            assert!(matches!(agent.ask(&request).await.unwrap(), AgentResponse::Failure), "{name}");
        }
        let request = AgentRequest::Extension { name: "status@brass-lantern".into(), content: Vec::new() };
        let AgentResponse::Extension { content, .. } = agent.ask(&request).await.unwrap() else { panic!() };
        assert!(!content.windows(10).any(|window| window == b"chart-room"));
        assert_eq!(status(&home).await.unwrap().unwrap().passwords.len(), 1);
    });
}
