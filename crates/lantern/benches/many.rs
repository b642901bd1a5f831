//! A command on 1,000 and on 10,000 machines: wall-clock time and CPU against the cryptographic primitives of their logins alone (goal 1.5 times, and ten
//! times as many at most 1.1 times as long for each), and memory for each machine in flight (goal 64 KiB). All machines are one, in a process of its own,
//! that answers to ten thousand names.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

#[path = "support/elsewhere.rs"]
mod elsewhere;
mod support;

use std::fmt::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use elsewhere::Elsewhere;
use lantern_book::{KnownKey, TrustRecord, TrustStore, Verified};
use lantern_link::{CommandWords, Nobody};
use lantern_operations::ReachOptions;
use lantern_operations::many::{Ending, Halt, ManyOptions, ManyRun, ManyWatch, Phase, Work, run_many};
use lantern_ssh::Stream;
use support::{MACHINE, Scene, cpu, floor_of_login, median, on_this_thread, resident};

const FEW: usize = 1_000;
const MANY: usize = 10_000;
/// What two processors have at once where nothing is said.
const AT_ONCE: usize = 48;
/// How many are held in flight where memory is measured.
const IN_FLIGHT: usize = 1_000;

fn name(number: usize) -> String {
    format!("lamp-{number:05}")
}

/// Ten thousand names of one machine, all of them trusted.
fn write_names(scene: &Scene) {
    let key = TrustStore::load(&scene.home).unwrap().good_keys(MACHINE).unwrap().remove(0);
    let (ip, port) = (scene.machine.ip(), scene.machine.port());
    let mut book = String::new();
    let mut records = std::collections::BTreeMap::new();
    for number in 0..MANY {
        writeln!(book, "[machines.{}]\naddress = \"{ip}\"\nport = {port}\nuser = \"keeper\"\n", name(number))
            .unwrap();
        let known = KnownKey::new(key.clone(), Verified::Expected, jiff::Timestamp::now());
        let addresses = vec![scene.machine.to_string()];
        records.insert(name(number), TrustRecord { keys: vec![known], addresses, ..TrustRecord::default() });
    }
    std::fs::write(scene.home.path().join("machines.toml"), book).unwrap();
    TrustStore::take_in(&scene.home, &records, &[]).unwrap();
}

/// Ends everything once so many run, and looks at the memory then.
struct Full {
    running: AtomicUsize,
    wanted: usize,
    halt: Arc<Halt>,
    resident: AtomicUsize,
}

impl ManyWatch for Full {
    fn phase(&self, _: usize, phase: Phase) {
        if phase == Phase::Running && self.running.fetch_add(1, Ordering::AcqRel) + 1 == self.wanted {
            self.resident.store(resident(), Ordering::Release);
            self.halt.end_all();
        }
    }

    fn wrote(&self, _: usize, _: Stream, _: &[u8]) {}

    fn ended(&self, _: usize, _: &Ending) {}
}

struct NoWatch;

impl ManyWatch for NoWatch {
    fn phase(&self, _: usize, _: Phase) {}

    fn wrote(&self, _: usize, _: Stream, _: &[u8]) {}

    fn ended(&self, _: usize, _: &Ending) {}
}

fn run(words: &[&str], at_once: usize, watch: Arc<dyn ManyWatch>, halt: Arc<Halt>) -> ManyRun {
    let words = words.iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect();
    ManyRun {
        work: Arc::new(Work::Command(CommandWords { words, each_as_is: true, by_interpreter: false })),
        reach: ReachOptions::default(),
        acts_as: None,
        options: ManyOptions { at_once, stop_after: None },
        ask: Arc::new(Nobody),
        watch,
        halt,
    }
}

/// Wall-clock time and CPU for a command on so many.
fn on(elsewhere: &Elsewhere, machines: usize) -> (Duration, Duration) {
    let scene = &elsewhere.scene;
    let names: Vec<String> = (0..machines).map(name).collect();
    let run = run(&["whoami"], AT_ONCE, Arc::new(NoWatch), Arc::default());
    let (there, before, start) = (elsewhere.cpu(), cpu(), Instant::now());
    let outcomes = on_this_thread(run_many(&scene.home, &names, run)).unwrap();
    let (took, spent) = (start.elapsed(), cpu() - before);
    assert!(outcomes.iter().all(|ended| ended.as_ref().is_some_and(|ended| ended.ending.is_good())));
    println!(
        "run on {machines}: {:.2} s, {:.2} ms of CPU each here, {:.2} ms at the machine",
        took.as_secs_f64(),
        spent.as_secs_f64() * 1e3 / machines as f64,
        (elsewhere.cpu() - there).as_secs_f64() * 1e3 / machines as f64
    );
    (took, spent)
}

fn main() {
    elsewhere::be_the_machine();
    let elsewhere = Elsewhere::light();
    write_names(&elsewhere.scene);
    // The first visit learns what the machine offers; from then on all take the short way.
    let floor: Vec<f64> = (0..200).map(|_| floor_of_login().as_secs_f64()).collect();
    let floor = median(floor);
    let first = on(&elsewhere, FEW);
    let second = on(&elsewhere, FEW);
    let each = |(took, spent): (Duration, Duration), machines: usize| {
        (took.as_secs_f64() / machines as f64 / floor, spent.as_secs_f64() / machines as f64 / floor)
    };
    for (visit, of) in [("first", first), ("second", second)] {
        let (wall, spent) = each(of, FEW);
        println!(
            "run on {FEW}, {visit} visit: {wall:.2} times the primitives of their logins by the clock (goal 1.5), {spent:.2} in CPU"
        );
    }
    // Their first visit apart, as for the thousand.
    on(&elsewhere, MANY);
    let many = on(&elsewhere, MANY);
    let (wall, spent) = each(many, MANY);
    println!(
        "run on {MANY}: {wall:.2} times by the clock, {spent:.2} in CPU; {:.2} times as long for each as on {FEW} (goal 1.1)",
        wall / each(second, FEW).0
    );
    in_flight(&elsewhere.scene);
}

fn in_flight(scene: &Scene) {
    let names: Vec<String> = (0..IN_FLIGHT).map(name).collect();
    let halt = Arc::new(Halt::default());
    let watch = Arc::new(Full {
        running: AtomicUsize::new(0),
        wanted: IN_FLIGHT,
        halt: halt.clone(),
        resident: AtomicUsize::new(0),
    });
    let run = run(&["wait"], IN_FLIGHT, watch.clone(), halt);
    let before = resident();
    on_this_thread(run_many(&scene.home, &names, run)).unwrap();
    let full = watch.resident.load(Ordering::Acquire);
    assert!(full > 0, "they never all ran at once");
    println!(
        "run on {IN_FLIGHT} at once: {:.0} KiB for each machine in flight (goal 64)",
        (full - before.min(full)) as f64 / 1024.0 / IN_FLIGHT as f64
    );
}
