//! Tunnels: CPU of a bulk transfer, many callers at once, memory of those that are idle, and how soon a link carries again.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use lantern_book::{Tunnel, TunnelEnd};
use lantern_harbour::{Cable, LatencyLink, Service};
use lantern_link::{ConnectRequest, Nobody, connect};
use lantern_operations::tunnel::{
    Connect, Persistence, TunnelPlan, TunnelState, Tunnels, TunnelsRequest, open,
};
use support::{MACHINE, Scene, cpu, median, on_this_thread, resident};

const PIECE: usize = 8 << 20;
const PIECES: usize = 60;
const CALLERS: usize = 1000;
const REQUESTS: usize = 100;
const MESSAGE: [u8; 64] = [7; 64];

fn main() {
    if std::env::args().any(|word| word == "machine") {
        let scene = scene();
        println!("{} {}", scene.machine, scene.folder.path().display());
        thread::park();
    }
    let _ = rustix::process::setrlimit(
        rustix::process::Resource::Nofile,
        rustix::process::Rlimit { current: Some(20_000), maximum: Some(20_000) },
    );
    // First: what the others leave behind would hide it.
    memory();
    bulk();
    callers();
    again();
}

fn scene() -> Scene {
    Scene::with(None, |spec| spec.services = vec![(80, Service::Page), (7, Service::Echo)])
}

async fn tunnel(request: ConnectRequest, form: &str) -> (Tunnels, SocketAddr) {
    let connector: Connect = Arc::new(move || {
        let request = request.clone();
        Box::pin(async move { Ok(connect(&request, &Nobody).await?) })
    });
    let plan = TunnelPlan { name: "bench".into(), tunnel: Tunnel::parse(form).unwrap() };
    let request = TunnelsRequest {
        plans: vec![plan],
        connect: connector,
        persistence: Persistence { give_up: None, from_start: false },
        hold: None,
        login: None,
        probe: false,
    };
    let (tunnels, ending) = open(request).await.unwrap();
    tokio::spawn(ending);
    let status = tunnels.board().settled().await;
    assert_eq!(status.tunnels[0].state, TunnelState::Carries);
    let Some(TunnelEnd::Tcp { host, port }) = status.tunnels[0].listens() else { panic!("no port") };
    (tunnels, SocketAddr::new(host.parse().unwrap(), port))
}

/// CPU of this side while bytes pass from the machine to a caller; the floor reads a socket, runs the AEAD, and writes another.
fn bulk() {
    let mut ratios = Vec::new();
    for _ in 0..3 {
        let scene = scene();
        let ours = on_this_thread(async {
            let (_tunnels, at) = tunnel(scene.request(), "local 0 to 127.0.0.1:80").await;
            let start = cpu();
            tokio::task::spawn_blocking(move || fetch(at)).await.unwrap();
            cpu() - start
        });
        let floor = floor();
        let ratio = ours.as_secs_f64() / floor.as_secs_f64();
        println!(
            "bulk through a tunnel, {} MB: {:.0} ms CPU, floor {:.0} ms, ratio {ratio:.2}",
            PIECE * PIECES / 1_000_000,
            ours.as_secs_f64() * 1e3,
            floor.as_secs_f64() * 1e3
        );
        ratios.push(ratio);
    }
    println!("bulk through a tunnel: median ratio {:.2} (goal 1.3)", median(ratios));
}

fn fetch(at: SocketAddr) {
    let mut stream = TcpStream::connect(at).unwrap();
    let request = format!("GET /bytes/{PIECE} HTTP/1.1\r\nHost: lamp\r\n\r\n").repeat(PIECES);
    stream.write_all(request.as_bytes()).unwrap();
    let mut left = PIECE * PIECES;
    let mut buffer = vec![0; 256 * 1024];
    while left > 0 {
        let len = stream.read(&mut buffer).unwrap();
        assert!(len > 0);
        left = left.saturating_sub(len);
    }
}

fn floor() -> Duration {
    let (source, sink) =
        (TcpListener::bind("127.0.0.1:0").unwrap(), TcpListener::bind("127.0.0.1:0").unwrap());
    let (from, to) = (source.local_addr().unwrap(), sink.local_addr().unwrap());
    let writer = thread::spawn(move || {
        let (mut stream, _) = source.accept().unwrap();
        let chunk = vec![1; 64 * 1024];
        for _ in 0..PIECE * PIECES / chunk.len() {
            stream.write_all(&chunk).unwrap();
        }
    });
    let reader = thread::spawn(move || {
        let (mut stream, _) = sink.accept().unwrap();
        let mut buffer = vec![0; 256 * 1024];
        while stream.read(&mut buffer).unwrap() > 0 {}
    });
    let (mut from, mut to) = (TcpStream::connect(from).unwrap(), TcpStream::connect(to).unwrap());
    let key = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap());
    let mut buffer = vec![0; 64 * 1024];
    let start = cpu();
    loop {
        let len = from.read(&mut buffer).unwrap();
        if len == 0 {
            break;
        }
        for packet in buffer[..len].chunks_mut(32 * 1024) {
            let nonce = Nonce::assume_unique_for_key([0; 12]);
            let _ = std::hint::black_box(
                key.seal_in_place_separate_tag(nonce, Aad::from([0; 4]), packet).unwrap(),
            );
        }
        to.write_all(&buffer[..len]).unwrap();
    }
    let spent = cpu() - start;
    drop(to);
    writer.join().unwrap();
    reader.join().unwrap();
    spent
}

/// A thousand callers, each with a hundred requests, one after the other; in seconds.
fn ask_all(at: SocketAddr) -> f64 {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let mut streams = Vec::new();
        for _ in 0..CALLERS {
            let stream = tokio::net::TcpStream::connect(at).await.unwrap();
            stream.set_nodelay(true).unwrap();
            streams.push(stream);
        }
        let start = Instant::now();
        let mut asking = tokio::task::JoinSet::new();
        for mut stream in streams {
            asking.spawn(async move {
                use tokio::io::{AsyncReadExt, AsyncWriteExt};
                let mut echo = [0; MESSAGE.len()];
                for _ in 0..REQUESTS {
                    stream.write_all(&MESSAGE).await.unwrap();
                    stream.read_exact(&mut echo).await.unwrap();
                }
            });
        }
        while let Some(asked) = asking.join_next().await {
            asked.unwrap();
        }
        start.elapsed().as_secs_f64()
    })
}

fn callers() {
    let mut ratios = Vec::new();
    for _ in 0..3 {
        let scene = scene();
        let ours = on_this_thread(async {
            let (_tunnels, at) = tunnel(scene.request(), "local 0 to 127.0.0.1:7").await;
            tokio::task::spawn_blocking(move || ask_all(at)).await.unwrap()
        });
        let plain = plain_relay();
        let each = (CALLERS * REQUESTS) as f64;
        println!(
            "{CALLERS} callers, {REQUESTS} requests each: {:.0} a second through a tunnel, {:.0} through a plain relay, ratio {:.2}",
            each / ours,
            each / plain,
            plain / ours
        );
        ratios.push(plain / ours);
    }
    println!("many callers: median ratio {:.2} (goal 0.5)", median(ratios));
}

/// The same with a relay that joins each caller with a connection of its own to a service.
fn plain_relay() -> f64 {
    let (tell, told) = std::sync::mpsc::channel();
    // The service, in the thread that the machine has in the other case.
    thread::spawn(move || {
        on_this_thread(async move {
            let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
            tell.send(listener.local_addr().unwrap()).unwrap();
            while let Ok((mut stream, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let (mut read, mut write) = stream.split();
                    let _ = tokio::io::copy(&mut read, &mut write).await;
                });
            }
        });
    });
    let service: SocketAddr = told.recv().unwrap();
    on_this_thread(async {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((mut caller, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let mut there = tokio::net::TcpStream::connect(service).await.unwrap();
                    let _ = (caller.set_nodelay(true), there.set_nodelay(true));
                    let _ = tokio::io::copy_bidirectional(&mut caller, &mut there).await;
                });
            }
        });
        tokio::task::spawn_blocking(move || ask_all(at)).await.unwrap()
    })
}

/// Resident bytes of this process, with the machine in another one.
fn memory() {
    let mut child =
        Command::new(std::env::current_exe().unwrap()).arg("machine").stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
    let (address, folder) = line.trim().split_once(' ').unwrap();
    let folder = std::path::PathBuf::from(folder);
    let scene = Scene {
        home: lantern_book::Home::new(folder.join("home")),
        folder: tempfile::tempdir().unwrap(),
        machine: address.parse().unwrap(),
        link: None,
    };
    on_this_thread(async {
        let (_tunnels, at) = tunnel(scene.request(), "local 0 to 127.0.0.1:7").await;
        // Each says something once, as a caller does, and then nothing.
        let call = || async {
            use tokio::io::{AsyncReadExt, AsyncWriteExt};
            let mut stream = tokio::net::TcpStream::connect(at).await.unwrap();
            stream.write_all(&MESSAGE).await.unwrap();
            stream.read_exact(&mut [0; MESSAGE.len()]).await.unwrap();
            stream
        };
        let mut held = vec![call().await];
        let before = resident();
        for _ in 0..CALLERS {
            held.push(call().await);
        }
        let each = (resident() - before) as f64 / CALLERS as f64 / 1024.0;
        println!(
            "memory of an idle caller, its own socket too: {each:.1} KiB resident, over {CALLERS} (goal 16)"
        );
    });
    child.kill().unwrap();
    child.wait().unwrap();
    std::fs::remove_dir_all(folder).unwrap();
}

/// From a cut to the first answer over the next link, in round trips.
fn again() {
    let one_way = Duration::from_millis(25);
    let scene = scene();
    let lit = scene.machine;
    on_this_thread(async {
        let cable = Cable::lay(lit).await.unwrap();
        let link = LatencyLink::open(cable.address, one_way).await.unwrap();
        let key = lantern_book::TrustStore::load(&scene.home).unwrap().good_keys(MACHINE).unwrap().remove(0);
        let now = jiff::Timestamp::now();
        let place = link.address.to_string();
        let verified = lantern_book::Verified::Expected;
        lantern_book::TrustStore::accept(&scene.home, MACHINE, &place, &key, verified, now).unwrap();
        let (ip, port) = (link.address.ip().to_string(), link.address.port());
        let request = ConnectRequest::new(&scene.home, MACHINE, &ip, port, "keeper");
        let call = |at: SocketAddr| async move {
            use tokio::io::{AsyncReadExt, AsyncWriteExt};
            let mut stream = tokio::net::TcpStream::connect(at).await.unwrap();
            stream.write_all(&MESSAGE).await.unwrap();
            stream.read_exact(&mut [0; MESSAGE.len()]).await.map(drop)
        };
        let mut all = Vec::new();
        for _ in 0..5 {
            // A link of its own: one that is lost again and again is tried for with longer and longer pauses.
            let (_tunnels, at) = tunnel(request.clone(), "local 0 to 127.0.0.1:7").await;
            call(at).await.unwrap();
            cable.cut();
            cable.mend(lit);
            let start = Instant::now();
            // One that was let in before the loss was noticed is broken off.
            while call(at).await.is_err() {}
            all.push(start.elapsed().as_secs_f64() / (2.0 * one_way.as_secs_f64()));
        }
        println!(
            "after a cut of a line with {} ms there and back: carries again after {:.1} round trips, the loss noticed and a caller answered included",
            2 * one_way.as_millis(),
            median(all)
        );
    });
}
