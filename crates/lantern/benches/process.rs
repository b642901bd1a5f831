//! Whole processes: from start to the first byte on the wire, and the CPU of `lantern run MACHINE -- whoami` from start to end.
//! Goals: 5 ms beyond a process that does nothing, and 1.35 times what such a process and the primitives of a login cost.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::Read;
use std::net::TcpListener;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use support::{Scene, floor_of_login, median};

const ROUNDS: usize = 60;
/// The kernel counts the time of children in hundredths of a second: enough of them make that fine.
const LOGINS: usize = 150;

fn main() {
    first_byte();
    whole_login();
}

/// A machine that takes note of when it hears something, and hangs up.
fn first_byte() {
    let scene = Scene::new(None);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("keeper@{}", listener.local_addr().unwrap());
    let (sender, heard) = mpsc::channel();
    thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            if stream.read(&mut [0]).unwrap() == 1 {
                sender.send(Instant::now()).unwrap();
            }
        }
    });
    let (mut ours, mut floors) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let start = Instant::now();
        let mut child = lantern(&scene, &address).spawn().unwrap();
        ours.push((heard.recv().unwrap() - start).as_secs_f64() * 1e3);
        child.wait().unwrap();
        let start = Instant::now();
        Command::new("/bin/true").status().unwrap();
        floors.push(start.elapsed().as_secs_f64() * 1e3);
    }
    let (ours, floor) = (median(ours), median(floors));
    println!(
        "from the start of the process to its first byte on the wire: {ours:.1} ms, {:.1} ms beyond a process that does nothing (goal 5)",
        ours - floor
    );
}

fn lantern(scene: &Scene, machine: &str) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
    command
        .args(["run", machine, "--no-input", "--no-questions", "--", "whoami"])
        .env("LANTERN_HOME", scene.home.path())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    command
}

fn whole_login() {
    let scene = Scene::new(None);
    let text = format!(
        "[machines.{}]\naddress = \"{}\"\nport = {}\nuser = \"keeper\"\n",
        support::MACHINE,
        scene.machine.ip(),
        scene.machine.port()
    );
    std::fs::write(scene.home.path().join("machines.toml"), text).unwrap();
    let each = |run: &dyn Fn()| {
        let before = children_cpu();
        (0..LOGINS).for_each(|_| run());
        (children_cpu() - before).as_secs_f64() * 1e3 / LOGINS as f64
    };
    let ours = each(&|| {
        assert!(lantern(&scene, support::MACHINE).status().unwrap().success());
    });
    let nothing = each(&|| {
        assert!(Command::new("/bin/true").status().unwrap().success());
    });
    let primitives = median((0..100).map(|_| floor_of_login().as_secs_f64() * 1e3).collect());
    let floor = nothing + primitives;
    println!(
        "CPU of a whole `lantern run` with its login: {ours:.2} ms; a process that does nothing {nothing:.2} ms and the primitives {primitives:.2} ms; ratio {:.2} (goal 1.35)",
        ours / floor
    );
}

/// CPU time of children that have ended.
fn children_cpu() -> Duration {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
    // proc(5): cutime and cstime are fields 16 and 17; the first one here is the third.
    let ticks: u64 = fields[13..15].iter().map(|field| field.parse::<u64>().unwrap()).sum();
    Duration::from_millis(ticks * 1000 / rustix::param::clock_ticks_per_second())
}
