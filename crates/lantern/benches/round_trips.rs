//! Round trips from connecting to the first output of a command, counted on a line with latency. Goal: 5 for a known
//! machine with a public key, TCP's own included.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::time::{Duration, Instant};

use lantern_ssh::{SessionRequest, Stream};
use support::{Scene, on_this_thread};

fn main() {
    let one_way = Duration::from_millis(25);
    let scene = Scene::new(Some(one_way));
    for visit in ["first", "second", "third"] {
        scene.round_trips();
        let start = Instant::now();
        on_this_thread(async {
            let trunk = scene.connect().await;
            let channel = trunk.open_session().await.unwrap();
            drop(channel.ask(&SessionRequest::Exec(b"hostname".to_vec())));
            channel.next(Stream::Main).await.unwrap();
        });
        // Loopback's own handshake takes no time here; on a real line it takes one round trip.
        let by_time = start.elapsed().as_secs_f64() / (2.0 * one_way.as_secs_f64()) + 1.0;
        println!(
            "round trips to first output, {visit} visit: {} counted, {by_time:.2} by the clock (goal 5)",
            scene.round_trips()
        );
    }
}
