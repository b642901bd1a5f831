//! Commands on a machine of Windows: round trips from connecting to the first output, client CPU for output against a floor that opens the same AEAD, reads
//! the same XML by the same library and decodes the same base64, memory for output that never ends, and two hundred machines at once.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

#[path = "support/windows.rs"]
mod machines;
mod support;

use std::time::{Duration, Instant};

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use base64ct::{Base64, Encoding};
use bytes::Bytes;
use lantern_harbour::LatencyLink;
use lantern_link::{CommandWords, ProcessEnd, Program, Remote, Runs};
use lantern_ssh::Stream;
use machines::{Keeper, ONE_WAY, Windows, round_trip};
use quick_xml::events::Event;
use support::{cpu, median, on_this_thread};

const OUTPUT: usize = 100_000_000;
/// What a machine of today answers with, in base64: of half an envelope of 500 KiB.
const PIECE: usize = 256_000;
/// A record of TLS.
const RECORD: usize = 16 * 1024;
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
    let floor = floor();
    let ratio = spent.as_secs_f64() / floor.as_secs_f64();
    println!(
        "output over TLS, 100 MB: {:.0} ms CPU, floor {:.0} ms, ratio {ratio:.2}",
        spent.as_secs_f64() * 1e3,
        floor.as_secs_f64() * 1e3
    );
    ratio
}

fn floor() -> Duration {
    let key = || LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap());
    let nonce = || Nonce::assume_unique_for_key([1; 12]);
    let data = Base64::encode_string(&vec![5; PIECE]);
    let envelope = format!(
        "<s:Envelope xmlns:s='urn:s'><s:Body><s:Stream Name='stdout'>{data}</s:Stream></s:Body></s:Envelope>"
    );
    let sealed: Vec<Vec<u8>> = envelope
        .as_bytes()
        .chunks(RECORD)
        .map(|record| {
            let mut record = record.to_vec();
            key().seal_in_place_append_tag(nonce(), Aad::empty(), &mut record).unwrap();
            record
        })
        .collect();
    let key = key();
    let start = cpu();
    let mut decoded = 0;
    while decoded < OUTPUT {
        let mut text = Vec::with_capacity(envelope.len());
        for record in &sealed {
            let at = text.len();
            text.extend_from_slice(record);
            let opened = key.open_in_place(nonce(), Aad::empty(), &mut text[at..]).unwrap().len();
            text.truncate(at + opened);
        }
        let text = std::str::from_utf8(&text).unwrap();
        let mut reader = quick_xml::NsReader::from_str(text);
        loop {
            match reader.read_resolved_event().unwrap().1 {
                Event::Text(text) => decoded += Base64::decode_vec(&text.xml10_content()).unwrap().len(),
                Event::Eof => break,
                _ => {}
            }
        }
    }
    cpu() - start
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
