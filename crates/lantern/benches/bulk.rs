//! Client CPU for bulk data through a channel, against a floor that only reads or writes a socket and runs the same
//! AEAD over the same bytes. Goal: 1.10 times.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_ssh::{SessionRequest, Stream};
use support::{Scene, cpu, floor_receive, floor_send, on_this_thread};

const BYTES: usize = 1_000_000_000;
const PACKET: usize = 64 * 1024;
const ROUNDS: usize = 3;

fn main() {
    let scene = Scene::new(None);
    for (name, ours, floor) in [
        ("receive", receive as fn(&Scene) -> Duration, floor_receive as fn(usize) -> Duration),
        ("send", send, floor_send),
    ] {
        let mut ratios = Vec::new();
        for _ in 0..ROUNDS {
            let start = Instant::now();
            let spent = ours(&scene);
            let wall = start.elapsed();
            let floor = floor(BYTES);
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
