//! Commands on a machine of Windows: round trips from connecting to the first output, client CPU for output against a floor that opens the same AEAD, reads
//! the same XML by the same library and decodes the same base64, memory for output that never ends, and two hundred machines at once.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

#[path = "support/windows_floor.rs"]
mod floor;
#[path = "support/windows.rs"]
mod machines;
mod support;

use std::time::Instant;

use bytes::Bytes;
use floor::floor_of_output;
use lantern_harbour::LatencyLink;
use lantern_link::{CommandWords, ProcessEnd, Program, Remote, Runs};
use lantern_ssh::Stream;
use machines::{Keeper, ONE_WAY, Windows, round_trip};
use support::{cpu, median, on_this_thread};

const OUTPUT: usize = 100_000_000;
const MACHINES: usize = 200;

fn program(words: &[&str]) -> Program {
    let words = words.iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect();
    let runs = Runs::Command(CommandWords { words, each_as_is: true, by_interpreter: false });
    Program { runs, environment: Vec::new(), terminal: None, agent: false, display: None }
}

/// The bytes that a program writes, to its end.
async fn run(remote: &Remote, words: &[&str]) -> usize {
    let (process, _start) = remote.start(program(words)).await.unwrap();
    let mut received = 0;
    while let Some(piece) = process.next(Stream::Main).await {
        received += piece.len();
        process.consumed(piece.len());
    }
    assert!(matches!(process.ended().await, ProcessEnd::Exited(0)));
    received
}

fn main() {
    let windows = Windows::light();
    round_trips(&windows);
    let ratios = (0..3).map(|_| output(&windows)).collect();
    println!("output over TLS: median ratio {:.2} (goal 1.5)", median(ratios));
    memory(&windows);
    many(&windows);
}

fn round_trips(windows: &Windows) {
    on_this_thread(async {
        let trip = round_trip().await;
        let link = LatencyLink::open(windows.address, ONE_WAY).await.unwrap();
        for visit in ["first", "second"] {
            let start = Instant::now();
            let remote = Remote::connect(&windows.request(link.address), &Keeper).await.unwrap();
            let (process, _start) = remote.start(program(&["hostname"])).await.unwrap();
            process.next(Stream::Main).await.unwrap();
            let clock = start.elapsed().as_secs_f64() / trip;
            // Loopback's own handshake takes no time here; on a real line it takes one round trip.
            println!(
                "round trips to first output over WinRM, {visit} visit: {:.2} by the clock (floor and goal 6)",
                clock + 1.0
            );
            remote.close().await;
        }
    });
}

/// CPU for the output of a program, ÷ the floor.
fn output(windows: &Windows) -> f64 {
    let spent = on_this_thread(async {
        let remote = Remote::connect(&windows.request(windows.address), &Keeper).await.unwrap();
        let start = cpu();
        assert_eq!(run(&remote, &["write-bytes", &OUTPUT.to_string()]).await, OUTPUT);
        let spent = cpu() - start;
        remote.close().await;
        spent
    });
    let floor = floor_of_output(OUTPUT);
    let ratio = spent.as_secs_f64() / floor.as_secs_f64();
    println!(
        "output over TLS, 100 MB: {:.0} ms CPU, floor {:.0} ms, ratio {ratio:.2}",
        spent.as_secs_f64() * 1e3,
        floor.as_secs_f64() * 1e3
    );
    ratio
}

/// The most memory that the program itself holds while a machine floods it.
fn memory(windows: &Windows) {
    let peak = |bytes: &str| {
        let words = [
            "run",
            "chart-room",
            "--no-input",
            "--password-from",
            "command:printf 'high water'",
            "--",
            "write-bytes",
            bytes,
        ];
        windows.peak(&words)
    };
    println!(
        "peak memory of `run` for output: {} KiB for a line, {} KiB for 100 MB",
        peak("100"),
        peak("100000000")
    );
}

/// Many machines, each with a connection and a login of its own.
fn many(windows: &Windows) {
    on_this_thread(async {
        let start = (Instant::now(), cpu());
        let request = windows.request(windows.address);
        let mut all = tokio::task::JoinSet::new();
        for _ in 0..MACHINES {
            let request = request.clone();
            all.spawn(async move {
                let remote = Remote::connect(&request, &Keeper).await.unwrap();
                let said = run(&remote, &["hostname"]).await;
                remote.close().await;
                said
            });
        }
        while let Some(said) = all.join_next().await {
            assert!(said.unwrap() > 0);
        }
        println!(
            "{MACHINES} machines at once, a command on each: {:.2} s, {:.2} ms of CPU each",
            start.0.elapsed().as_secs_f64(),
            (cpu() - start.1).as_secs_f64() * 1e3 / MACHINES as f64
        );
    });
}
