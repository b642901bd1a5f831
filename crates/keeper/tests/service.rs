//! The keeper's process on a socket, without the program around it.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::future::Future;
use std::time::Duration;

use lantern_book::Home;
use lantern_keeper::{KeeperError, find, listen, must, serve, socket_path, status, stop_request};
use lantern_keys::{KeyAlgorithm, PrivateKey, SecretBytes};
use lantern_ssh::agent::{AgentRequest, Constraints};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;

fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), future).await.expect("it hangs") })
}

/// A home with a keeper that serves.
fn kept() -> (tempfile::TempDir, Home) {
    let folder = tempfile::tempdir().unwrap();
    let home = Home::new(folder.path().to_owned());
    let listener = listen(&socket_path(&home)).unwrap();
    tokio::spawn(serve(listener, None));
    (folder, home)
}

fn key() -> PrivateKey {
    PrivateKey::generate(KeyAlgorithm::Ed25519, "harbour").unwrap()
}

#[test]
fn it_holds_shows_locks_forgets_and_ends() {
    on_this_thread(async {
        let nowhere = Home::new("/nonexistent".into());
        assert!(status(&nowhere).await.unwrap().is_none());
        let (_folder, home) = kept();
        let key = key();
        let public = key.public().clone();
        let request = AgentRequest::Add {
            key: Box::new(key),
            constraints: Constraints { lifetime: Some(60), confirm: false },
        };
        must(&home, &request, "hold it").await.unwrap();
        let told = status(&home).await.unwrap().unwrap();
        assert_eq!((told.keys.len(), told.locked, told.can_ask), (1, false, false));
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
        let (_folder, home) = kept();
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
