//! Round trips from connecting to the first output of a command, counted on a line with latency, TCP's own included. Goal: 3 for a known machine with the
//! key that worked last time, once it is known how it numbers its channels; the floor of what has to be asked in turn is 3: TCP, keys, and the rest. A
//! command over a connection that is there already: 1, which is its floor.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::time::{Duration, Instant};

use lantern_link::{CommandWords, ConnectRequest, Nobody, Opens, Pool, Program, Remote, Runs, connect};
use lantern_ssh::Stream;
use support::{Scene, on_this_thread};

const ONE_WAY: Duration = Duration::from_millis(25);

fn program() -> Program {
    Program {
        runs: Runs::Command(CommandWords::line("hostname")),
        environment: Vec::new(),
        terminal: None,
        agent: false,
        display: None,
    }
}

async fn run(remote: &Remote) {
    let (process, _start) = remote.start(program()).await.unwrap();
    process.next(Stream::Main).await.unwrap();
}

fn by_the_clock(start: Instant) -> f64 {
    start.elapsed().as_secs_f64() / (2.0 * ONE_WAY.as_secs_f64())
}

fn main() {
    let scene = Scene::new(Some(ONE_WAY));
    for visit in ["first", "second", "third", "fourth", "fifth"] {
        scene.round_trips();
        let start = Instant::now();
        on_this_thread(async {
            let request = ConnectRequest { opens: Opens::Program(program()), ..scene.request() };
            run(&Remote::from(connect(&request, &Nobody).await.unwrap())).await;
        });
        // Loopback's own handshake takes no time here; on a real line it takes one round trip.
        println!(
            "round trips to first output, {visit} visit: {} counted, {:.2} by the clock (goal 3 from the fourth on)",
            scene.round_trips(),
            by_the_clock(start) + 1.0
        );
    }
    on_this_thread(async {
        let pool = Pool::new();
        let trunk = pool.get(&scene.request(), &Nobody).await.unwrap();
        for visit in ["first", "second", "third"] {
            drop(pool.session(&trunk).await.unwrap());
            // The next session comes meanwhile.
            tokio::time::sleep(6 * ONE_WAY).await;
            scene.round_trips();
            let start = Instant::now();
            let channel = pool.session(&trunk).await.unwrap();
            drop(channel.ask(&lantern_ssh::SessionRequest::Exec(b"hostname".to_vec())));
            channel.next(Stream::Main).await.unwrap();
            let (counted, clock) = (scene.round_trips() - 1, by_the_clock(start));
            println!("warm, {visit} command: {counted} counted, {clock:.2} by the clock (goal 1)");
        }
    });
}
