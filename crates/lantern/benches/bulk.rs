//! Client CPU for bulk data through a channel, against a floor that only reads or writes a socket and runs the same
//! AEAD over the same bytes. Goal: 1.10 times.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::thread;
use std::time::{Duration, Instant};

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use bytes::Bytes;
use lantern_ssh::{SessionRequest, Stream};
use support::{Scene, cpu, on_this_thread};

const BYTES: usize = 1_000_000_000;
const PACKET: usize = 64 * 1024;
const ROUNDS: usize = 3;

fn main() {
    let scene = Scene::new(None);
    for (name, ours, floor) in [
        ("receive", receive as fn(&Scene) -> Duration, floor_receive as fn() -> Duration),
        ("send", send, floor_send),
    ] {
        let mut ratios = Vec::new();
        for _ in 0..ROUNDS {
            let start = Instant::now();
            let spent = ours(&scene);
            let wall = start.elapsed();
            let floor = floor();
            let ratio = spent.as_secs_f64() / floor.as_secs_f64();
            println!(
                "bulk {name}, 1 GB: {:.0} ms CPU ({:.2} GB/s on the line), floor {:.0} ms, ratio {ratio:.2}",
                spent.as_secs_f64() * 1e3,
                1.0 / wall.as_secs_f64(),
                floor.as_secs_f64() * 1e3
            );
            ratios.push(ratio);
        }
        println!("bulk {name}: median ratio {:.2} (goal 1.10)", support::median(ratios));
    }
}

fn receive(scene: &Scene) -> Duration {
    on_this_thread(async {
        let trunk = scene.connect().await;
        let channel = trunk.open_session().await.unwrap();
        let start = cpu();
        drop(channel.ask(&SessionRequest::Exec(format!("flood {BYTES}").into_bytes())));
        let mut received = 0;
        while let Some(data) = channel.next(Stream::Main).await {
            received += data.len();
            channel.consumed(data.len());
        }
        assert_eq!(received, BYTES);
        let spent = cpu() - start;
        trunk.close().await;
        spent
    })
}

fn send(scene: &Scene) -> Duration {
    let data = Bytes::from(vec![5; PACKET]);
    on_this_thread(async {
        let trunk = scene.connect().await;
        let channel = trunk.open_session().await.unwrap();
        drop(channel.ask(&SessionRequest::Exec(b"swallow".to_vec())));
        let start = cpu();
        let mut left = BYTES;
        while left > 0 {
            let mut piece = data.slice(..left.min(PACKET));
            left -= piece.len();
            channel.send(&mut piece).await.unwrap();
        }
        channel.send_eof();
        channel.next(Stream::Main).await.unwrap();
        let spent = cpu() - start;
        trunk.close().await;
        spent
    })
}

fn key() -> LessSafeKey {
    LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap())
}

fn seal(key: &LessSafeKey, packet: &mut [u8]) {
    let nonce = Nonce::assume_unique_for_key([0; 12]);
    // Kept from the optimizer, which might otherwise drop the work.
    let _ = std::hint::black_box(key.seal_in_place_separate_tag(nonce, Aad::from([0; 4]), packet).unwrap());
}

fn floor_receive() -> Duration {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let writer = thread::spawn(move || {
        let mut stream = TcpStream::connect(address).unwrap();
        let chunk = vec![1; PACKET];
        for _ in 0..BYTES / PACKET {
            stream.write_all(&chunk).unwrap();
        }
    });
    let (mut stream, _) = listener.accept().unwrap();
    let (key, mut buffer) = (key(), vec![0; 256 * 1024]);
    let start = cpu();
    loop {
        let len = stream.read(&mut buffer).unwrap();
        if len == 0 {
            break;
        }
        for packet in buffer[..len].chunks_mut(PACKET) {
            seal(&key, packet);
        }
    }
    let spent = cpu() - start;
    writer.join().unwrap();
    spent
}

fn floor_send() -> Duration {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let reader = thread::spawn(move || {
        let mut stream = TcpStream::connect(address).unwrap();
        let mut buffer = vec![0; 256 * 1024];
        while stream.read(&mut buffer).unwrap() > 0 {}
    });
    let (mut stream, _) = listener.accept().unwrap();
    let (key, mut packet) = (key(), vec![0; PACKET]);
    let start = cpu();
    for _ in 0..BYTES / PACKET {
        seal(&key, &mut packet);
        stream.write_all(&packet).unwrap();
    }
    let spent = cpu() - start;
    drop(stream);
    reader.join().unwrap();
    spent
}
