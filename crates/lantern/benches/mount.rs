//! A mounted folder against a folder of this computer: the build of a small C project, and `git status` of 5,000 files, at the first look and at the next.
//! The machine is simulated, in a process of its own; over a line of no length, and over 20 ms there and back.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr, clippy::panic, clippy::expect_used)]

#[path = "support/elsewhere.rs"]
mod elsewhere;
mod support;

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use elsewhere::Elsewhere;
use lantern_book::Home;
use lantern_harbour::LatencyLink;
use support::{Scene, on_this_thread, trust};

/// C files of the project, each with a header of its own.
const SOURCES: usize = 60;
/// Files that git looks at.
const TRACKED: usize = 5_000;

/// A folder of the machine as one of this computer.
struct Mount {
    child: Child,
    here: PathBuf,
}

impl Mount {
    fn new(scene: &Scene, here: PathBuf) -> Option<Self> {
        fs::create_dir(&here).unwrap();
        let child = lantern(&scene.home)
            .args(["mount", "lamp-01:/srv", here.to_str().unwrap(), "--foreground", "--no-share"])
            .spawn()
            .unwrap();
        let mut mount = Self { child, here };
        for _ in 0..200 {
            if fs::read_to_string("/proc/mounts").unwrap().contains(mount.here.to_str().unwrap()) {
                return Some(mount);
            }
            if mount.child.try_wait().unwrap().is_some() {
                break;
            }
            thread::sleep(Duration::from_millis(25));
        }
        println!("mount: not measured, this computer has no FUSE");
        None
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.here).status();
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn lantern(home: &Home) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
    command.env("LANTERN_HOME", home.path()).stdin(Stdio::null()).stdout(Stdio::null());
    command
}

fn write_project(folder: &Path) {
    fs::create_dir(folder).unwrap();
    let mut main = String::new();
    let mut sum = String::from("0");
    for number in 0..SOURCES {
        let header = format!("#include <stdio.h>\n#include <string.h>\nint lamp_{number}(int at);\n");
        fs::write(folder.join(format!("lamp_{number}.h")), header).unwrap();
        let mut text = format!("#include \"lamp_{number}.h\"\n");
        for line in 0..100 {
            writeln!(text, "static int step_{line}(int at) {{ return at * {line} + {number}; }}").unwrap();
        }
        writeln!(text, "int lamp_{number}(int at) {{ return step_7(at) + step_99(at); }}").unwrap();
        fs::write(folder.join(format!("lamp_{number}.c")), text).unwrap();
        writeln!(main, "#include \"lamp_{number}.h\"").unwrap();
        write!(sum, " + lamp_{number}({number})").unwrap();
    }
    writeln!(main, "int main(void) {{ printf(\"%d\\n\", {sum}); return 0; }}").unwrap();
    fs::write(folder.join("main.c"), main).unwrap();
    let rules = "objects := $(patsubst %.c,%.o,$(wildcard *.c))\ncoast: $(objects)\n\tcc -o $@ $^\n%.o: %.c\n\tcc -O1 -c -o $@ $<\nnothing:\n\trm -f coast *.o\n";
    fs::write(folder.join("Makefile"), rules).unwrap();
}

fn write_tracked(folder: &Path) {
    for number in 0..TRACKED {
        let below = folder.join(format!("coast-{:02}", number % 50));
        fs::create_dir_all(&below).unwrap();
        fs::write(below.join(format!("chart-{number}.txt")), format!("{number}\n").repeat(50)).unwrap();
    }
    git(folder, &["init", "-q"]);
    git(folder, &["add", "."]);
    git(
        folder,
        &["-c", "user.name=keeper", "-c", "user.email=keeper@lamp.example", "commit", "-q", "-m", "charts"],
    );
}

/// Seconds that a command takes in a folder.
fn time(folder: &Path, words: &[&str]) -> f64 {
    let start = Instant::now();
    let done = Command::new(words[0]).args(&words[1..]).current_dir(folder).output().unwrap();
    assert!(done.status.success(), "{words:?}: {}", String::from_utf8_lossy(&done.stderr));
    start.elapsed().as_secs_f64()
}

fn git(folder: &Path, words: &[&str]) -> f64 {
    time(folder, &[&["git", "-c", "safe.directory=*"], words].concat())
}

fn copy(scene: &Scene, from: &Path) {
    let status =
        lantern(&scene.home).args(["copy", from.to_str().unwrap(), "lamp-01:/srv/", "--quiet"]).status();
    assert!(status.unwrap().success());
}

fn main() {
    elsewhere::be_the_machine();
    let elsewhere = Elsewhere::light();
    let Elsewhere { scene, .. } = &elsewhere;
    scene.write_book();
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    write_project(&at("project"));
    fs::create_dir(at("charts")).unwrap();
    write_tracked(&at("charts"));
    copy(scene, &at("project"));
    copy(scene, &at("charts"));
    let Some(near) = Mount::new(scene, at("near")) else { return };
    let built = time(&at("project"), &["make", "-s", "-j2"]);
    let first = git(&at("charts"), &["status", "--porcelain"]);
    let floor = git(&at("charts"), &["status", "--porcelain"]);
    println!("on this computer: build {built:.2} s, git status {first:.3} s and {floor:.3} s");
    measure(&near.here, "no line", (built, floor));
    drop(near);
    on_this_thread(async {
        let line = LatencyLink::open(scene.machine, Duration::from_millis(10)).await.unwrap();
        let home = Home::new(scene.home.path().to_owned());
        let far = Scene { folder: tempfile::tempdir().unwrap(), home, machine: line.address, link: None };
        trust(&far);
        far.write_book();
        let here = at("far");
        let work = tokio::task::spawn_blocking(move || {
            let Some(far) = Mount::new(&far, here) else { return };
            time(&far.here.join("project"), &["make", "-s", "nothing"]);
            measure(&far.here, "20 ms", (built, floor));
        });
        work.await.unwrap();
    });
}

fn measure(here: &Path, line: &str, (built, looked): (f64, f64)) {
    let took = time(&here.join("project"), &["make", "-s", "-j2"]);
    println!("mount, {line}: build of {SOURCES} C files {took:.2} s, {:.2} times a local disk", took / built);
    let (first, next) = (
        git(&here.join("charts"), &["status", "--porcelain"]),
        git(&here.join("charts"), &["status", "--porcelain"]),
    );
    println!(
        "mount, {line}: git status of {TRACKED} files {first:.2} s and then {next:.2} s, {:.1} and {:.1} times a local disk",
        first / looked,
        next / looked
    );
}
