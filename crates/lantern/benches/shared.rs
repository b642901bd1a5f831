//! What it costs to go through the keeper: bulk data of a command whose bytes pass by a socket between two processes, against one with a connection of
//! its own. Handing standard output over to the keeper could save no more than the difference.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use support::{MACHINE, Scene, children_cpu, median, process_cpu};

const BYTES: usize = 2_000_000_000;
const COMMANDS: u32 = 100;
const ROUNDS: usize = 3;

fn main() {
    let scene = Scene::new(None);
    scene.write_book();
    let keeper = Keeper::start(&scene);
    // The connection is made, and a session waits.
    keeper.run(&["whoami"], true);
    let mut ratios = Vec::new();
    for _ in 0..ROUNDS {
        let flood = ["flood", &BYTES.to_string()];
        let (own, own_time) = keeper.run(&flood, false);
        let (shared, shared_time) = keeper.run(&flood, true);
        let ratio = shared.as_secs_f64() / own.as_secs_f64();
        println!(
            "bulk of a command, 2 GB: {:.0} ms CPU in {:.1} s through the keeper, {:.0} ms in {:.1} s without, ratio {ratio:.2}",
            shared.as_secs_f64() * 1e3,
            shared_time.as_secs_f64(),
            own.as_secs_f64() * 1e3,
            own_time.as_secs_f64(),
        );
        ratios.push(ratio);
    }
    println!("bulk of a command through the keeper: median ratio {:.2}", median(ratios));
    let short = |is_shared| {
        let runs = (0..COMMANDS).map(|_| keeper.run(&["whoami"], is_shared));
        let (cpu, time) =
            runs.fold((Duration::ZERO, Duration::ZERO), |sum, run| (sum.0 + run.0, sum.1 + run.1));
        (cpu.as_secs_f64() * 1e3 / f64::from(COMMANDS), time.as_secs_f64() * 1e3 / f64::from(COMMANDS))
    };
    let ((own, own_time), (shared, shared_time)) = (short(false), short(true));
    println!(
        "`run MACHINE -- whoami`: {shared:.1} ms CPU and {shared_time:.1} ms through the keeper, {own:.1} ms and {own_time:.1} ms without, ratio {:.2}",
        shared / own
    );
}

/// A keeper that runs; it ends with this.
struct Keeper<'a> {
    scene: &'a Scene,
    pid: String,
}

impl<'a> Keeper<'a> {
    fn start(scene: &'a Scene) -> Self {
        let mut keeper = Self { scene, pid: String::new() };
        let started = keeper.command(&["keeper", "start", "--json"]).stdout(Stdio::piped()).output().unwrap();
        let started: serde_json::Value = serde_json::from_slice(&started.stdout).unwrap();
        keeper.pid = started["pid"].to_string();
        keeper
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
        command.args(words).env("LANTERN_HOME", self.scene.home.path());
        command.stdout(Stdio::null()).stderr(Stdio::null());
        command
    }

    /// CPU time of a command and of the keeper meanwhile, and how long it took.
    fn run(&self, line: &[&str], is_shared: bool) -> (Duration, Duration) {
        let share: &[&str] = if is_shared { &[] } else { &["--no-share"] };
        let words = [&["run", MACHINE, "--no-input", "--no-questions"], share, &["--"], line].concat();
        let spent = || children_cpu() + process_cpu(&self.pid);
        let (before, start) = (spent(), Instant::now());
        assert!(self.command(&words).status().unwrap().success());
        (spent() - before, start.elapsed())
    }
}

impl Drop for Keeper<'_> {
    fn drop(&mut self) {
        let _ = self.command(&["keeper", "stop"]).status();
    }
}
