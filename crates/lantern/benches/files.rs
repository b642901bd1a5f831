//! Files of a machine: client CPU for one large file each way against a floor that only reads or writes a socket and runs the same AEAD over the same bytes
//! (goal 1.3 times); the same over 100 ms; many small files over 20 ms against one round trip for each 64; a long listing.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;
#[path = "support/traffic.rs"]
mod traffic;

use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_link::Remote;
use lantern_operations::copy::{CopyOptions, Destination, Stop, carry_out, plan, roots};
use lantern_operations::files::{Machine, Side};
use lantern_ssh::sftp::{Attributes, OpenFlags};
use support::{Scene, cpu, floor_receive, floor_send, median, on_this_thread};
use traffic::{read, write};

const BYTES: usize = 1_000_000_000;
const ROUNDS: usize = 3;
const SMALL: usize = 10_000;

fn main() {
    large();
    far();
    small();
    listing();
}

async fn machine(scene: &Scene) -> Machine {
    Machine::of(Remote::from(scene.connect().await)).await.unwrap()
}

fn large() {
    let scene = Scene::new(None);
    let (mut up, mut down) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let (sent, received) = on_this_thread(async {
            let machine = machine(&scene).await;
            let start = cpu();
            write(&machine, b"/srv/large", BYTES).await;
            let sent = cpu() - start;
            let start = cpu();
            assert_eq!(read(&machine, b"/srv/large").await, BYTES);
            (sent, cpu() - start)
        });
        let (floor_up, floor_down) = (floor_send(BYTES), floor_receive(BYTES));
        let ratio = |ours: Duration, floor: Duration| ours.as_secs_f64() / floor.as_secs_f64();
        println!(
            "files, 1 GB: up {:.0} ms CPU, floor {:.0} ms; down {:.0} ms, floor {:.0} ms",
            sent.as_secs_f64() * 1e3,
            floor_up.as_secs_f64() * 1e3,
            received.as_secs_f64() * 1e3,
            floor_down.as_secs_f64() * 1e3
        );
        up.push(ratio(sent, floor_up));
        down.push(ratio(received, floor_down));
    }
    println!("files, 1 GB: up {:.2}, down {:.2} times the floor (goal 1.3)", median(up), median(down));
}

/// Over 50 ms each way: a line of 1 Gbit/s brings 125 MB a second.
fn far() {
    let scene = Scene::new(Some(Duration::from_millis(50)));
    on_this_thread(async {
        let machine = machine(&scene).await;
        let start = Instant::now();
        write(&machine, b"/srv/far", BYTES).await;
        let up = BYTES as f64 / start.elapsed().as_secs_f64();
        let start = Instant::now();
        assert_eq!(read(&machine, b"/srv/far").await, BYTES);
        let down = BYTES as f64 / start.elapsed().as_secs_f64();
        let of = 125_000_000.0;
        println!(
            "files, 1 GB over 100 ms: up {:.0} MB/s, down {:.0} MB/s: {:.2} and {:.2} of 1 Gbit/s (goal 0.95)",
            up / 1e6,
            down / 1e6,
            (up / of).min(1.0),
            (down / of).min(1.0)
        );
    });
}

fn small() {
    let scene = Scene::new(Some(Duration::from_millis(10)));
    let folder = scene.folder.path().join("small");
    std::fs::create_dir(&folder).unwrap();
    for number in 0..SMALL {
        std::fs::write(folder.join(format!("c{number}")), [3; 4096]).unwrap();
    }
    let back = scene.folder.path().join("back");
    let path = |path: &std::path::Path| path.as_os_str().as_encoded_bytes().to_vec();
    let floor = Duration::from_millis(20) * u32::try_from(SMALL / 64).unwrap();
    on_this_thread(async {
        let there = Side::There(machine(&scene).await);
        for (from, what, to, target, name) in [
            (&Side::Here, path(&folder), &there, b"/srv/small".to_vec(), "up"),
            (&there, b"/srv/small".to_vec(), &Side::Here, path(&back), "down"),
        ] {
            let start = Instant::now();
            // As the program has it where the system lets it.
            let options = CopyOptions { most_open_here: 4096, ..CopyOptions::default() };
            let roots = roots(from, &[what], to, &Destination::of(&target)).await.unwrap();
            let plan = plan(from, to, &roots, &options, &()).await.unwrap();
            let report = carry_out(from, to, plan, &options, Arc::new(()), Arc::new(Stop::default())).await;
            assert_eq!(report.copied, SMALL, "{report:?}");
            let took = start.elapsed();
            println!(
                "files, {SMALL} of 4 KiB over 20 ms, {name}: {:.1} s, {:.2} times one round trip for each 64",
                took.as_secs_f64(),
                took.as_secs_f64() / floor.as_secs_f64()
            );
        }
    });
}

fn listing() {
    let scene = Scene::new(Some(Duration::from_millis(10)));
    on_this_thread(async {
        let machine = machine(&scene).await;
        machine.files.make_folder(b"/srv/many", None).await.unwrap();
        let mut waiting = tokio::task::JoinSet::new();
        for number in 0..100_000 {
            while waiting.len() >= 500 {
                waiting.join_next().await;
            }
            let files = machine.files.clone();
            waiting.spawn(async move {
                let path = format!("/srv/many/chart-{number:06}.svg").into_bytes();
                let flags = OpenFlags { create: true, ..OpenFlags::WRITE };
                let writer = files.write(&path, flags, None).await.unwrap();
                writer.finish(Attributes::default(), false).await.unwrap();
            });
        }
        while waiting.join_next().await.is_some() {}
        let (start, spent) = (Instant::now(), cpu());
        assert_eq!(machine.files.list(b"/srv/many").await.unwrap().len(), 100_000);
        println!(
            "files, a listing of 100000 names over 20 ms: {:.2} s, {:.0} ms CPU",
            start.elapsed().as_secs_f64(),
            (cpu() - spent).as_secs_f64() * 1e3
        );
    });
}
