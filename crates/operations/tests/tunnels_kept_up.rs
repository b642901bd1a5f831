//! Tunnels whose link is lost: what is held, what comes back, and what ends the trying.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

mod desk;
mod rig;

use std::future::Future;
use std::io::ErrorKind;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use desk::on_this_thread;
use lantern_harbour::{Cable, Harbour, MachineSpec};
use lantern_link::LinkError;
use lantern_operations::OperationError;
use lantern_operations::tunnel::{Connect, LinkPhase, Persistence, TunnelState, open};
use rig::{carries, connect_at, exchange, request, scene, until};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

#[test]
fn a_port_of_the_machine_leads_here_and_is_the_same_after_a_loss() {
    on_this_thread(async {
        let scene = scene().await;
        let lit = scene.harbour.machines()[0].address;
        let cable = Cable::lay(lit).await.unwrap();
        let here = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let form = format!("remote 0 to 127.0.0.1:{}", here.local_addr().unwrap().port());
        let (tunnels, _ending) = open(request(connect_at(&scene, cable.address), &[&form])).await.unwrap();
        let there = SocketAddr::new(lit.ip(), carries(&tunnels, 0).await.port());
        let answer = tokio::spawn(async move {
            for _ in 0..2 {
                let (mut stream, _) = here.accept().await.unwrap();
                let mut met = [0; 4];
                stream.read_exact(&mut met).await.unwrap();
                stream.write_all(&met.map(|byte| byte.to_ascii_uppercase())).await.unwrap();
            }
        });
        assert_eq!(exchange(&mut TcpStream::connect(there).await.unwrap(), b"lamp").await, b"LAMP");
        cable.cut();
        until(tunnels.board(), |status| (status.losses == 1).then_some(())).await;
        cable.mend(lit);
        assert_eq!(carries(&tunnels, 0).await.port(), there.port());
        assert_eq!(exchange(&mut TcpStream::connect(there).await.unwrap(), b"horn").await, b"HORN");
        answer.await.unwrap();
        // Nothing is here any more: whoever calls there hears of it.
        let mut caller = TcpStream::connect(there).await.unwrap();
        let _ = caller.read(&mut [0; 8]).await;
        let error = until(tunnels.board(), |status| status.tunnels[0].last_error.clone()).await;
        assert!(error.contains("here"), "{error}");
    });
}

#[test]
fn callers_are_held_while_the_link_is_away_and_led_on_over_the_next_one() {
    on_this_thread(async {
        let scene = scene().await;
        let lit = scene.harbour.machines()[0].address;
        // The same machine, at another address from now on.
        let moved = MachineSpec { port: 0, ..(*scene.harbour.machines()[0].spec).clone() };
        let cable = Cable::lay(lit).await.unwrap();
        let forms = ["local 0 to 127.0.0.1:7", "local 0 to 127.0.0.1:7 hold 0"];
        let (tunnels, _ending) = open(request(connect_at(&scene, cable.address), &forms)).await.unwrap();
        let (patient, hasty) = (carries(&tunnels, 0).await, carries(&tunnels, 1).await);
        let mut cut_off = TcpStream::connect(patient).await.unwrap();
        cut_off.write_all(b"before").await.unwrap();
        cut_off.read_exact(&mut [0; 6]).await.unwrap();
        cable.cut();
        // What went through it breaks off; who comes now waits, or not.
        assert_eq!(cut_off.read(&mut [0; 8]).await.unwrap_err().kind(), ErrorKind::ConnectionReset);
        let error = until(tunnels.board(), |status| {
            (status.tunnels[0].state == TunnelState::Holds).then(|| status.last_error.clone())
        });
        error.await;
        let mut held = TcpStream::connect(patient).await.unwrap();
        held.write_all(b"after").await.unwrap();
        let mut refused = TcpStream::connect(hasty).await.unwrap();
        assert_eq!(refused.read(&mut [0; 8]).await.unwrap_err().kind(), ErrorKind::ConnectionReset);
        assert!(tokio::time::timeout(Duration::from_millis(300), held.read(&mut [0; 8])).await.is_err());
        let elsewhere = Harbour::light(vec![moved]).await.unwrap();
        cable.mend(elsewhere.machines()[0].address);
        held.shutdown().await.unwrap();
        let mut met = Vec::new();
        held.read_to_end(&mut met).await.unwrap();
        assert_eq!(met, b"after");
        let status = tunnels.board().status();
        assert_eq!((status.phase, status.losses, status.last_error), (LinkPhase::Up, 1, None));
    });
}

#[test]
fn a_machine_that_is_another_one_ends_the_trying() {
    on_this_thread(async {
        let scene = scene().await;
        let lit = scene.harbour.machines()[0].address;
        let cable = Cable::lay(lit).await.unwrap();
        let (tunnels, ending) =
            open(request(connect_at(&scene, cable.address), &["local 0 to 127.0.0.1:7"])).await.unwrap();
        let at = carries(&tunnels, 0).await;
        let stranger = MachineSpec::new("stranger", 2).unwrap();
        let strange = Harbour::light(vec![stranger]).await.unwrap();
        cable.cut();
        until(tunnels.board(), |status| (status.losses == 1).then_some(())).await;
        let mut held = TcpStream::connect(at).await.unwrap();
        cable.mend(strange.machines()[0].address);
        let error = ending.await;
        assert!(matches!(error, OperationError::Link(LinkError::Trust(_))), "{error}");
        let status = tunnels.board().status();
        assert_eq!((status.phase, &status.tunnels[0].state), (LinkPhase::Over, &TunnelState::Over));
        assert!(status.last_error.unwrap().contains("another host key"));
        assert!(tunnels.is_over());
        drop(tunnels);
        assert!(held.read(&mut [0; 8]).await.is_err() || held.read(&mut [0; 8]).await.unwrap() == 0);
    });
}

#[test]
fn trying_ends_when_it_was_long_enough_and_a_first_try_that_fails_is_told_at_once() {
    on_this_thread(async {
        let scene = scene().await;
        let nobody: SocketAddr = {
            let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
            closed.local_addr().unwrap()
        };
        let (_tunnels, ending) = open(request(connect_at(&scene, nobody), &["dynamic 0"])).await.unwrap();
        assert!(matches!(ending.await, OperationError::Link(LinkError::Refused { .. })));

        let mut patient = request(connect_at(&scene, nobody), &["dynamic 0"]);
        patient.persistence = Persistence { give_up: Some(Duration::from_millis(1500)), from_start: true };
        let started = Instant::now();
        let (_tunnels, ending) = open(patient).await.unwrap();
        assert!(matches!(ending.await, OperationError::Link(LinkError::Refused { .. })));
        assert!(started.elapsed() >= Duration::from_millis(1500));
        // A port that is taken ends it before anything is dialed.
        let dialed = Arc::new(AtomicBool::new(false));
        let seen = dialed.clone();
        let connect: Connect = Arc::new(move || {
            seen.store(true, Ordering::Relaxed);
            Box::pin(std::future::pending::<Result<_, _>>())
                as std::pin::Pin<Box<dyn Future<Output = _> + Send>>
        });
        let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let form = format!("dynamic {}", taken.local_addr().unwrap().port());
        let error = open(request(connect, &["dynamic 0", &form])).await.unwrap_err();
        assert_eq!(error.name, "t1");
        assert!(!dialed.load(Ordering::Relaxed));
    });
}
