//! A thousand channels that echo, each a small message a round: client CPU, against a plain client that sends the same messages over
//! one socket, each with a header, and runs the same AEAD over each.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::thread;
use std::time::Duration;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use bytes::Bytes;
use lantern_ssh::{SessionRequest, Stream};
use support::{Scene, cpu, on_this_thread};

const CHANNELS: usize = 1000;
const ROUNDS: usize = 30;
const MESSAGE: usize = 64;

fn main() {
    let (ours, floor) = (through_channels(), plain());
    let each = |time: Duration| time.as_secs_f64() * 1e6 / (CHANNELS * ROUNDS) as f64;
    println!(
        "{CHANNELS} channels echoing: {:.2} µs of CPU a message and its echo, a plain client {:.2} µs, ratio {:.2}",
        each(ours),
        each(floor),
        ours.as_secs_f64() / floor.as_secs_f64()
    );
}

fn through_channels() -> Duration {
    let scene = Scene::new(None);
    on_this_thread(async {
        let trunk = scene.connect().await;
        let mut channels = Vec::new();
        for _ in 0..CHANNELS {
            let channel = trunk.open_session().await.unwrap();
            assert!(channel.request(&SessionRequest::Exec(b"mirror".to_vec())).await.unwrap());
            channels.push(channel);
        }
        let message = Bytes::from(vec![7; MESSAGE]);
        let start = cpu();
        for _ in 0..ROUNDS {
            for channel in &channels {
                channel.send(&mut message.clone()).await.unwrap();
            }
            for channel in &channels {
                let mut left = MESSAGE;
                while left > 0 {
                    let piece = channel.next(Stream::Main).await.unwrap();
                    left -= piece.len();
                    channel.consumed(piece.len());
                }
            }
        }
        cpu() - start
    })
}

fn plain() -> Duration {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut buffer = vec![0; 256 * 1024];
        while let Ok(len) = stream.read(&mut buffer) {
            if len == 0 || stream.write_all(&buffer[..len]).is_err() {
                break;
            }
        }
    });
    let mut stream = TcpStream::connect(address).unwrap();
    stream.set_nodelay(true).unwrap();
    let key = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap());
    let mut work = |packet: &mut [u8]| {
        let nonce = Nonce::assume_unique_for_key([0; 12]);
        let _ =
            std::hint::black_box(key.seal_in_place_separate_tag(nonce, Aad::from([0; 4]), packet).unwrap());
    };
    // Number and length in front of each message, padded as a packet is.
    let mut packet = [7; MESSAGE + 32];
    let mut out = Vec::with_capacity(CHANNELS * packet.len());
    let mut back = vec![0; CHANNELS * packet.len()];
    let start = cpu();
    for _ in 0..ROUNDS {
        out.clear();
        for number in 0..CHANNELS {
            packet[..4].copy_from_slice(&(number as u32).to_be_bytes());
            work(&mut packet);
            out.extend_from_slice(&packet);
        }
        stream.write_all(&out).unwrap();
        stream.read_exact(&mut back).unwrap();
        back.chunks_mut(MESSAGE + 32).for_each(&mut work);
    }
    cpu() - start
}
