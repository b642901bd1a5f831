//! Files of a machine of Windows: client CPU for one large file each way against a floor that only seals or opens the same AEAD over the same XML and base64,
//! and the rate of it.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

#[path = "support/windows_floor.rs"]
mod floor;
#[path = "support/windows.rs"]
mod machines;
mod support;
#[path = "support/traffic.rs"]
mod traffic;

use std::time::{Duration, Instant};

use floor::{floor_of_input, floor_of_output};
use lantern_link::Remote;
use lantern_operations::files::Machine;
use machines::{Keeper, Windows};
use support::{cpu, median, on_this_thread};
use traffic::{read, write};

const BYTES: usize = 100_000_000;
const ROUNDS: usize = 3;

fn main() {
    let windows = Windows::light();
    let (mut up, mut down) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let ((sent, sent_in), (received, received_in)) = on_this_thread(once(&windows));
        let (floor_up, floor_down) = (floor_of_input(BYTES), floor_of_output(BYTES));
        for (way, spent, floor, took) in
            [("up", sent, floor_up, sent_in), ("down", received, floor_down, received_in)]
        {
            println!(
                "files of Windows, 100 MB {way}: {:.0} ms CPU, floor {:.0} ms; {:.1} MB/s",
                spent.as_secs_f64() * 1e3,
                floor.as_secs_f64() * 1e3,
                BYTES as f64 / 1e6 / took.as_secs_f64()
            );
        }
        up.push(sent.as_secs_f64() / floor_up.as_secs_f64());
        down.push(received.as_secs_f64() / floor_down.as_secs_f64());
    }
    println!("files of Windows, 100 MB: up {:.2}, down {:.2} times the floor", median(up), median(down));
}

/// CPU and time for a file there, and back.
async fn once(windows: &Windows) -> ((Duration, Duration), (Duration, Duration)) {
    let remote = Remote::connect(&windows.request(windows.address), &Keeper).await.unwrap();
    let machine = Machine::of(remote).await.unwrap();
    let start = (cpu(), Instant::now());
    write(&machine, b"/C:/logs/large", BYTES).await;
    let sent = (cpu() - start.0, start.1.elapsed());
    let start = (cpu(), Instant::now());
    assert_eq!(read(&machine, b"/C:/logs/large").await, BYTES);
    let received = (cpu() - start.0, start.1.elapsed());
    lantern_operations::files::Side::There(machine).leave().await;
    (sent, received)
}
