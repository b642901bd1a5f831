//! Channels joined with sockets of this computer: bytes, half-closes, resets, and who listens where.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // A test that cannot go on says so by panicking.
#![allow(clippy::disallowed_methods)]

mod scene;

use std::io::ErrorKind;
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use bytes::Bytes;
use lantern_book::TunnelEnd;
use lantern_link::{Broken, ListenError, Listener, LocalStream, Meter, Trunk, relay};
use lantern_ssh::{DirectTcpip, PeerChannel};
use scene::{Do, Machine, Scene, on_this_thread};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::task::JoinHandle;
use tokio::time::timeout;

fn any_port() -> TunnelEnd {
    TunnelEnd::Tcp { host: "127.0.0.1".into(), port: 0 }
}

async fn call(at: &TunnelEnd) -> TcpStream {
    let TunnelEnd::Tcp { host, port } = at else { panic!("{at}") };
    TcpStream::connect((host.as_str(), *port)).await.unwrap()
}

struct Tunnel {
    machine: Machine,
    caller: TcpStream,
    relayed: JoinHandle<Result<(), Broken>>,
    meter: Arc<Meter>,
    _trunk: Trunk,
}

/// A caller whose connection is joined with a channel that the client opened, to a machine that echoes.
async fn outward(scene: &Scene) -> Tunnel {
    let (machine, trunk) = scene.connect().await;
    let listener = Listener::bind(&any_port()).await.unwrap();
    let caller = call(listener.at()).await;
    let local = listener.accept().await.unwrap();
    let to = DirectTcpip { host: "127.0.0.1".into(), port: 80, originator: ("127.0.0.1".into(), 1) };
    let channel = trunk.open_direct(&to).await.unwrap();
    let meter = Arc::new(Meter::default());
    let relayed = tokio::spawn({
        let meter = meter.clone();
        async move { relay(channel, local, Bytes::new(), &*meter).await }
    });
    Tunnel { machine, caller, relayed, meter, _trunk: trunk }
}

/// A service of ours that a channel leads to which the machine opened.
async fn inward(scene: &Scene) -> Tunnel {
    let (machine, trunk) = scene.connect().await;
    let listener = Listener::bind(&any_port()).await.unwrap();
    let mut agents = trunk.grant(lantern_link::Grant::Agent, lantern_link::Uses::Once);
    machine.tell(Do::Open(PeerChannel::Agent));
    let channel = agents.next().await.unwrap().channel;
    machine.until(|heard| (heard.opened.len() == 1).then_some(())).await;
    let caller = call(listener.at()).await;
    let local = listener.accept().await.unwrap();
    let meter = Arc::new(Meter::default());
    let relayed = tokio::spawn({
        let meter = meter.clone();
        async move { relay(channel, local, "first ".into(), &*meter).await }
    });
    Tunnel { machine, caller, relayed, meter, _trunk: trunk }
}

#[test]
fn what_goes_in_comes_out_and_ends_pass_both_ways() {
    on_this_thread(async {
        let scene = Scene::new();
        let mut tunnel = outward(&scene).await;
        // More than all windows and buffers: both directions at once, or nothing moves.
        let sent: Vec<u8> = (0..5_000_000u32).map(|n| (n / 7) as u8).collect();
        let (mut read, mut write) = tunnel.caller.into_split();
        let writes = tokio::spawn({
            let sent = sent.clone();
            async move {
                write.write_all(&sent).await.unwrap();
                // Half of it ends here; the echo goes on.
                write.shutdown().await.unwrap();
                write
            }
        });
        let mut met = Vec::new();
        read.read_to_end(&mut met).await.unwrap();
        assert!(met == sent, "{} of {} bytes", met.len(), sent.len());
        drop(writes.await.unwrap());
        assert_eq!(tunnel.relayed.await.unwrap(), Ok(()));
        tunnel.machine.until(|heard| (heard.channels == 0).then_some(())).await;
        let moved = |count: &std::sync::atomic::AtomicU64| count.load(Ordering::Relaxed);
        assert_eq!(
            [moved(&tunnel.meter.to_machine), moved(&tunnel.meter.from_machine)],
            [sent.len() as u64; 2]
        );
        tunnel.relayed = tokio::spawn(async { Ok(()) });
    });
}

#[test]
fn an_end_of_the_machine_leaves_the_other_direction_open() {
    on_this_thread(async {
        let scene = Scene::new();
        let mut tunnel = inward(&scene).await;
        tunnel.machine.until(|heard| (heard.data == b"first ").then_some(())).await;
        tunnel.machine.tell(Do::Send("all is well".into()));
        tunnel.machine.tell(Do::End);
        let mut met = Vec::new();
        tunnel.caller.read_to_end(&mut met).await.unwrap();
        assert_eq!(met, b"all is well");
        tunnel.caller.write_all(b"and here").await.unwrap();
        tunnel.machine.until(|heard| (heard.data == b"first and here").then_some(())).await;
        tunnel.caller.shutdown().await.unwrap();
        tunnel.machine.until(|heard| (heard.ended == 1).then_some(())).await;
        assert!(tunnel.machine.heard.lock().unwrap().closed <= 1);
    });
}

#[test]
fn what_is_broken_off_on_one_side_is_broken_off_on_the_other() {
    on_this_thread(async {
        let scene = Scene::new();
        // By the machine: a close with no end before it is a reset here.
        let mut tunnel = inward(&scene).await;
        tunnel.machine.tell(Do::Send("half a wo".into()));
        tunnel.machine.tell(Do::BreakOff);
        let mut met = Vec::new();
        let error = tunnel.caller.read_to_end(&mut met).await.unwrap_err();
        assert_eq!((met.as_slice(), error.kind()), (&b"half a wo"[..], ErrorKind::ConnectionReset));
        assert_eq!(tunnel.relayed.await.unwrap(), Err(Broken));
        // By the caller: the machine hears of no end, and of a close.
        let tunnel = inward(&scene).await;
        socket2::SockRef::from(&tunnel.caller).set_linger(Some(Duration::ZERO)).unwrap();
        drop(tunnel.caller);
        tunnel.machine.until(|heard| (heard.closed == 1 && heard.ended == 0).then_some(())).await;
        assert_eq!(tunnel.relayed.await.unwrap(), Err(Broken));
        // By the line.
        let mut tunnel = outward(&scene).await;
        tunnel.machine.tell(Do::Say(vec![52]));
        assert_eq!(tunnel.caller.read(&mut [0; 8]).await.unwrap_err().kind(), ErrorKind::ConnectionReset);
    });
}

/// A server that hands a reset on as an end: it is one.
#[test]
fn a_machine_that_ends_and_closes_is_done_with_the_caller_that_still_waits() {
    on_this_thread(async {
        let scene = Scene::new();
        let mut tunnel = inward(&scene).await;
        tunnel.machine.tell(Do::End);
        tunnel.machine.tell(Do::BreakOff);
        assert_eq!(tunnel.caller.read(&mut [0; 8]).await.unwrap(), 0);
        assert_eq!(timeout(Duration::from_secs(10), tunnel.relayed).await.unwrap().unwrap(), Ok(()));
    });
}

/// A caller that reads nothing, and one that goes away while the machine takes nothing.
#[test]
fn who_does_not_read_holds_up_nobody_else() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        let listener = Listener::bind(&any_port()).await.unwrap();
        let to = DirectTcpip { host: "127.0.0.1".into(), port: 80, originator: ("127.0.0.1".into(), 1) };
        let mut callers = Vec::new();
        for _ in 0..2 {
            let caller = call(listener.at()).await;
            let local = listener.accept().await.unwrap();
            let channel = trunk.open_direct(&to).await.unwrap();
            tokio::spawn(async move { relay(channel, local, Bytes::new(), &Meter::default()).await });
            callers.push(caller);
        }
        let mut lively = callers.pop().unwrap();
        let mut idle = callers.pop().unwrap();
        // The echo fills whatever there is between, until nothing more is taken.
        let block = vec![7; 1 << 20];
        while timeout(Duration::from_millis(500), idle.write_all(&block)).await.is_ok() {}
        for word in ["lamp", "horn"] {
            lively.write_all(word.as_bytes()).await.unwrap();
            let mut met = [0; 4];
            timeout(Duration::from_secs(5), lively.read_exact(&mut met)).await.unwrap().unwrap();
            assert_eq!(met, word.as_bytes());
        }
        assert!(trunk.account().held < lantern_ssh::limits::MAX_HELD);
        socket2::SockRef::from(&idle).set_linger(Some(Duration::ZERO)).unwrap();
        drop(idle);
        machine.until(|heard| (heard.channels == 1).then_some(())).await;
    });
}

#[test]
fn a_socket_is_ours_alone_and_a_stale_one_is_replaced() {
    on_this_thread(async {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("fog horn.sock");
        let at = TunnelEnd::Unix(path.to_str().unwrap().to_owned());
        let listener = Listener::bind(&at).await.unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let caller = LocalStream::connect(&at, Duration::from_secs(5)).await.unwrap();
        listener.accept().await.unwrap();
        drop(caller);
        assert!(matches!(Listener::bind(&at).await, Err(ListenError::InUse { .. })), "somebody listens");
        drop(listener);
        assert!(!path.exists());
        // What a process left that was killed.
        drop(std::os::unix::net::UnixListener::bind(&path).unwrap());
        let listener = Listener::bind(&at).await.unwrap();
        // What has taken its place meanwhile is not ours to remove.
        std::fs::remove_file(&path).unwrap();
        std::fs::write(&path, "notes").unwrap();
        drop(listener);
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "notes");
        assert!(matches!(Listener::bind(&at).await, Err(ListenError::NotOurs { .. })));
        let deep = TunnelEnd::Unix("/nowhere/fog.sock".into());
        assert!(matches!(Listener::bind(&deep).await, Err(ListenError::Io { .. })));
        // The same for ports.
        let first = Listener::bind(&any_port()).await.unwrap();
        assert!(matches!(Listener::bind(first.at()).await, Err(ListenError::InUse { .. })));
        let six = TunnelEnd::Tcp { host: "::1".into(), port: 0 };
        assert!(Listener::bind(&six).await.unwrap().at().to_string().starts_with("[::1]:"));
    });
}
