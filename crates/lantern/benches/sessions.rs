//! Sessions of PowerShell: round trips from connecting to the first prompt, client CPU for objects against parsing them alone, memory for objects that never
//! end, and fifty sessions at once.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

#[path = "support/windows.rs"]
mod machines;
mod support;

use std::time::Instant;

use lantern_harbour::LatencyLink;
use lantern_link::{Remote, RemoteSession, SessionNews, SessionOptions};
use lantern_operations::remoting::location;
use lantern_winrm::remoting::{Command, Objects, Pipeline, PipelineEnd, SessionEvent};
use machines::{Keeper, ONE_WAY, Windows, round_trip};
use support::{cpu, median, on_this_thread};

/// Each is about a kilobyte.
const OBJECTS: usize = 20_000;
const SESSIONS: usize = 50;

fn script(text: &str) -> Pipeline {
    Pipeline { commands: vec![Command::script(text)], ..Pipeline::default() }
}

/// What a pipeline puts out, to its end.
async fn run(session: &RemoteSession, text: &str, mut take: impl FnMut(String)) {
    assert!(session.begin(&script(text), false));
    loop {
        match session.next().await {
            SessionNews::Event(SessionEvent::Output(xml)) => take(xml),
            SessionNews::Event(SessionEvent::Ended(PipelineEnd::Completed)) => return,
            SessionNews::Event(_) => {}
            other => panic!("{other:?}"),
        }
    }
}

fn main() {
    let windows = Windows::light();
    first_prompt(&windows);
    let ratios = (0..3).map(|_| objects(&windows)).collect();
    println!("objects, client CPU ÷ parsing them alone: median {:.2}", median(ratios));
    let words = |count: &str| {
        let text = format!("New-Bulk {count}");
        windows.peak(&[
            "run",
            "chart-room",
            "--no-input",
            "--password-from",
            "command:printf 'high water'",
            "--json",
            "--expression",
            &text,
        ])
    };
    println!(
        "peak memory of `run --json`: {} KiB for one object, {} KiB for 20 MB of them",
        words("1"),
        words("20000")
    );
    many(&windows);
}

fn first_prompt(windows: &Windows) {
    on_this_thread(async {
        let trip = round_trip().await;
        let link = LatencyLink::open(windows.address, ONE_WAY).await.unwrap();
        let start = Instant::now();
        let remote = Remote::connect(&windows.request(link.address), &Keeper).await.unwrap();
        let session = remote.session(SessionOptions::default()).await.unwrap();
        assert!(location(&session).await.unwrap().is_some());
        // Loopback's own handshake takes no time here; on a real line it takes one round trip.
        println!(
            "round trips to the first prompt: {:.2} by the clock (7: the line, TLS, the challenge, the session, its state, two for where it stands)",
            start.elapsed().as_secs_f64() / trip + 1.0
        );
        drop(session);
        remote.close().await;
    });
}

/// CPU for objects, each read, ÷ reading them alone.
fn objects(windows: &Windows) -> f64 {
    let (spent, all) = on_this_thread(async {
        let remote = Remote::connect(&windows.request(windows.address), &Keeper).await.unwrap();
        let session = remote.session(SessionOptions::default()).await.unwrap();
        let mut all = Vec::with_capacity(OBJECTS);
        let start = cpu();
        run(&session, &format!("New-Bulk {OBJECTS}"), |xml| {
            assert_eq!(Objects::read(&xml).unwrap().roots.len(), 1);
            all.push(xml);
        })
        .await;
        let spent = cpu() - start;
        drop(session);
        remote.close().await;
        (spent, all)
    });
    assert_eq!(all.len(), OBJECTS);
    let start = cpu();
    for xml in &all {
        assert_eq!(Objects::read(xml).unwrap().roots.len(), 1);
    }
    let floor = cpu() - start;
    let ratio = spent.as_secs_f64() / floor.as_secs_f64();
    println!(
        "{OBJECTS} objects: {:.1} µs of CPU each, parsing alone {:.1} µs, ratio {ratio:.2}",
        spent.as_secs_f64() * 1e6 / OBJECTS as f64,
        floor.as_secs_f64() * 1e6 / OBJECTS as f64
    );
    ratio
}

/// Many sessions, each with a connection and a login of its own.
fn many(windows: &Windows) {
    on_this_thread(async {
        let start = (Instant::now(), cpu());
        let request = windows.request(windows.address);
        let mut all = tokio::task::JoinSet::new();
        for _ in 0..SESSIONS {
            let request = request.clone();
            all.spawn(async move {
                let remote = Remote::connect(&request, &Keeper).await.unwrap();
                let session = remote.session(SessionOptions::default()).await.unwrap();
                let mut count = 0;
                run(&session, "Get-Lamp", |_| count += 1).await;
                drop(session);
                remote.close().await;
                count
            });
        }
        while let Some(count) = all.join_next().await {
            assert_eq!(count.unwrap(), 3);
        }
        println!(
            "{SESSIONS} sessions at once, a pipeline in each: {:.2} s, {:.2} ms of CPU each",
            start.0.elapsed().as_secs_f64(),
            (cpu() - start.1).as_secs_f64() * 1e3 / SESSIONS as f64
        );
    });
}
