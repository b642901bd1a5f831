//! A keystroke beside bulk data on a narrow line, 10 Mbit/s and 50 ms there and back: how long its echo takes, against one bare TCP
//! connection over the same line that carries both. Goals: 1.2 times that, and 1.5 times the idle round trip where that floor allows.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_ssh::{SessionRequest, Stream};
use socket2::SockRef;
use support::{Scene, median, on_this_thread};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// Bytes a second: 10 Mbit/s.
const RATE: f64 = 1_250_000.0;
const ONE_WAY: Duration = Duration::from_millis(25);
/// What the line keeps in front of its narrowest place, in bytes.
const QUEUE: usize = 32 * 1024;
const STROKES: usize = 40;
const PAUSE: Duration = Duration::from_millis(60);
const LOW_WATER: u32 = 64 * 1024;

#[derive(Clone, Copy, PartialEq)]
enum Bulk {
    None,
    Up,
    Down,
}

fn main() {
    let scene = Scene::new(None);
    let ours = Scene { machine: narrow(scene.machine), ..scene };
    support::trust(&ours);
    let bare_target = bare_server();
    let bare = narrow(bare_target);
    let idle = strokes(&ours, Bulk::None);
    let idle_floor = strokes_bare(bare, Bulk::None);
    println!("echo on a narrow line, idle: {idle:.0} ms, bare TCP {idle_floor:.0} ms");
    for (name, bulk) in [("upload", Bulk::Up), ("download", Bulk::Down)] {
        let (with, floor) = (strokes(&ours, bulk), strokes_bare(bare, bulk));
        println!(
            "echo beside an {name}: {with:.0} ms, bare TCP that carries both {floor:.0} ms, ratio {:.2} (goal 1.2); {:.2} times the idle round trip (goal 1.5 where the floor allows: it has {:.2})",
            with / floor,
            with / idle,
            floor / idle_floor
        );
    }
}

fn strokes(scene: &Scene, bulk: Bulk) -> f64 {
    on_this_thread(async {
        let trunk = scene.connect().await;
        let keys = trunk.open_session().await.unwrap();
        assert!(keys.request(&SessionRequest::Exec(b"mirror".to_vec())).await.unwrap());
        let file = trunk.open_session().await.unwrap();
        let command = if bulk == Bulk::Down { "flood 900000000" } else { "swallow" };
        assert!(file.request(&SessionRequest::Exec(command.into())).await.unwrap());
        let carrying = async {
            match bulk {
                Bulk::None => std::future::pending::<()>().await,
                Bulk::Up => loop {
                    let mut piece = Bytes::from_static(&[5; 64 * 1024]);
                    file.send(&mut piece).await.unwrap();
                },
                Bulk::Down => loop {
                    let piece = file.next(Stream::Main).await.unwrap();
                    file.consumed(piece.len());
                },
            }
        };
        let typing = async {
            tokio::time::sleep(Duration::from_millis(800)).await;
            let mut times = Vec::new();
            for _ in 0..STROKES {
                let start = Instant::now();
                keys.send(&mut Bytes::from_static(b"k")).await.unwrap();
                keys.next(Stream::Main).await.unwrap();
                keys.consumed(1);
                times.push(start.elapsed().as_secs_f64() * 1e3);
                tokio::time::sleep(PAUSE).await;
            }
            median(times)
        };
        tokio::select! {
            times = typing => times,
            () = carrying => unreachable!(),
        }
    })
}

/// The floor's messages: a byte says what it is, two how long.
const FRAME: usize = 4 * 1024;

/// Echoes what is to be echoed, swallows the rest, and sends a flood where it is asked for one.
fn bare_server() -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            stream.set_nodelay(true).unwrap();
            SockRef::from(&stream).set_tcp_notsent_lowat(LOW_WATER).unwrap();
            thread::spawn(move || {
                let mut out = stream.try_clone().unwrap();
                let (echoes, waiting) = mpsc::channel::<()>();
                let mut mode = [0];
                if stream.read_exact(&mut mode).is_err() {
                    return;
                }
                thread::spawn(move || {
                    let bulk = frame(b'b');
                    loop {
                        let sent = match (waiting.try_recv(), mode[0]) {
                            (Ok(()), _) => out.write_all(&frame(b'e')),
                            (Err(_), b'd') => out.write_all(&bulk),
                            (Err(_), _) => match waiting.recv() {
                                Ok(()) => out.write_all(&frame(b'e')),
                                Err(_) => return,
                            },
                        };
                        if sent.is_err() {
                            return;
                        }
                    }
                });
                while let Ok(kind) = read_frame(&mut stream) {
                    if kind == b'e' && echoes.send(()).is_err() {
                        return;
                    }
                }
            });
        }
    });
    address
}

fn frame(kind: u8) -> Vec<u8> {
    let len = if kind == b'e' { 1 } else { FRAME };
    let mut out = vec![kind];
    out.extend_from_slice(&(len as u16).to_be_bytes());
    out.resize(3 + len, 7);
    out
}

fn read_frame(stream: &mut TcpStream) -> std::io::Result<u8> {
    let mut head = [0; 3];
    stream.read_exact(&mut head)?;
    let mut body = vec![0; usize::from(u16::from_be_bytes([head[1], head[2]]))];
    stream.read_exact(&mut body)?;
    Ok(head[0])
}

fn strokes_bare(line: SocketAddr, bulk: Bulk) -> f64 {
    on_this_thread(async {
        let stream = tokio::net::TcpStream::connect(line).await.unwrap();
        stream.set_nodelay(true).unwrap();
        SockRef::from(&stream).set_tcp_notsent_lowat(LOW_WATER).unwrap();
        let (mut read, mut write) = stream.into_split();
        write.write_all(&[if bulk == Bulk::Down { b'd' } else { b'u' }]).await.unwrap();
        let (strokes, mut waiting) = tokio::sync::mpsc::unbounded_channel::<()>();
        let (echoed, mut echoes) = tokio::sync::mpsc::unbounded_channel::<()>();
        tokio::spawn(async move {
            let (echo, file) = (frame(b'e'), frame(b'b'));
            loop {
                let out = match (waiting.try_recv(), bulk) {
                    (Ok(()), _) => &echo,
                    (Err(_), Bulk::Up) => &file,
                    (Err(_), _) => match waiting.recv().await {
                        Some(()) => &echo,
                        None => return,
                    },
                };
                if write.write_all(out).await.is_err() {
                    return;
                }
            }
        });
        tokio::spawn(async move {
            let mut body = vec![0; FRAME];
            loop {
                let mut head = [0; 3];
                if read.read_exact(&mut head).await.is_err() {
                    return;
                }
                let len = usize::from(u16::from_be_bytes([head[1], head[2]]));
                read.read_exact(&mut body[..len]).await.unwrap();
                if head[0] == b'e' {
                    let _ = echoed.send(());
                }
            }
        });
        tokio::time::sleep(Duration::from_millis(800)).await;
        let mut times = Vec::new();
        for _ in 0..STROKES {
            let start = Instant::now();
            strokes.send(()).unwrap();
            echoes.recv().await.unwrap();
            times.push(start.elapsed().as_secs_f64() * 1e3);
            tokio::time::sleep(PAUSE).await;
        }
        median(times)
    })
}

/// A line to `target` that lets so much through a second, each byte late, with a short queue in front.
fn narrow(target: SocketAddr) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    // What waits to be read here is the queue: it is kept short by the size of the socket's buffer.
    SockRef::from(&listener).set_recv_buffer_size(QUEUE / 2).unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        for near in listener.incoming() {
            let near = near.unwrap();
            let far = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
            far.set_recv_buffer_size(QUEUE / 2).unwrap();
            far.connect(&target.into()).unwrap();
            let far: TcpStream = far.into();
            near.set_nodelay(true).unwrap();
            far.set_nodelay(true).unwrap();
            one_direction(near.try_clone().unwrap(), far.try_clone().unwrap());
            one_direction(far, near);
        }
    });
    address
}

fn one_direction(mut from: TcpStream, mut to: TcpStream) {
    // What is under way: a line's worth and not more.
    let (sender, under_way) = mpsc::sync_channel::<(Instant, Vec<u8>)>(64);
    thread::spawn(move || {
        let mut free_at = Instant::now();
        let mut buffer = [0; 1448];
        while let Ok(len) = from.read(&mut buffer) {
            if len == 0 {
                break;
            }
            free_at = free_at.max(Instant::now()) + Duration::from_secs_f64(len as f64 / RATE);
            thread::sleep(free_at.saturating_duration_since(Instant::now()));
            if sender.send((free_at + ONE_WAY, buffer[..len].to_vec())).is_err() {
                break;
            }
        }
    });
    thread::spawn(move || {
        while let Ok((arrival, bytes)) = under_way.recv() {
            thread::sleep(arrival.saturating_duration_since(Instant::now()));
            if to.write_all(&bytes).is_err() {
                break;
            }
        }
        let _ = to.shutdown(std::net::Shutdown::Both);
    });
}
