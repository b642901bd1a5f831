//! Memory of an idle connection: resident pages of this process before and after many logins. The machines run in a
//! child, so that only the client's side is counted.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

mod support;

use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

use support::{Scene, on_this_thread, resident};

const LINKS: usize = 200;

fn main() {
    if std::env::args().any(|word| word == "machine") {
        let scene = Scene::new(None);
        println!("{} {}", scene.machine, scene.folder.path().display());
        std::thread::park();
    }
    let mut child =
        Command::new(std::env::current_exe().unwrap()).arg("machine").stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
    let (address, folder) = line.trim().split_once(' ').unwrap();
    let folder = std::path::PathBuf::from(folder);
    on_this_thread(async {
        let scene = Scene {
            home: lantern_book::Home::new(folder.join("home")),
            folder: tempfile::tempdir().unwrap(),
            machine: address.parse().unwrap(),
            link: None,
        };
        // The first one brings in code and tables that all share.
        let mut links = vec![scene.connect().await];
        let before = resident();
        for _ in 0..LINKS {
            links.push(scene.connect().await);
        }
        let each = (resident() - before) as f64 / LINKS as f64 / 1024.0;
        println!("memory of an idle connection: {each:.0} KiB resident, over {LINKS} of them");
    });
    child.kill().unwrap();
    child.wait().unwrap();
    std::fs::remove_dir_all(folder).unwrap();
}
