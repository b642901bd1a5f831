//! Start-up: the built binary as a whole process, against a process that does nothing. Goals: 5 ms for
//! `--version`, 50 ms for `machine list` with 10,000 machines.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::fmt::Write;
use std::process::{Command, Stdio};
use std::time::Instant;

use support::median;

const ROUNDS: usize = 40;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let home = folder.path().join("home");
    std::fs::create_dir(&home).unwrap();
    let mut book = String::new();
    for number in 0..10_000 {
        writeln!(
            book,
            "[machines.lamp-{number:05}]\naddress = \"192.0.2.{}\"\nuser = \"keeper\"\nkey = \"harbour\"\ntags = [\"coast\", \"north\"]\n",
            number % 256
        )
        .unwrap();
    }
    std::fs::write(home.join("machines.toml"), book).unwrap();
    let lantern = env!("CARGO_BIN_EXE_lantern");
    let home = home.to_str().unwrap();
    let floor = time("/bin/true", &[]);
    println!("start of a process that does nothing: {floor:.1} ms");
    let version = time(lantern, &["--version"]);
    println!("lantern --version: {version:.1} ms (goal 5), {:.1} times the floor", version / floor);
    let list = time(lantern, &["--home", home, "machine", "list"]);
    println!(
        "lantern machine list, 10,000 machines: {list:.1} ms (goal 50), {:.1} times the floor",
        list / floor
    );
}

/// Milliseconds from start to end, the median of many.
fn time(program: &str, words: &[&str]) -> f64 {
    let once = || {
        let start = Instant::now();
        let status = Command::new(program).args(words).stdout(Stdio::null()).status().unwrap();
        assert!(status.success());
        start.elapsed().as_secs_f64() * 1e3
    };
    median((0..ROUNDS).map(|_| once()).collect())
}
