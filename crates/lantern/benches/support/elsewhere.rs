//! A simulated machine in a process of its own, so that the memory of this one is the client's alone.

#![allow(dead_code)] // Not every bench needs all of it.

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use lantern_book::Home;

use crate::support::Scene;

/// What tells such a process what it is.
const WORD: &str = "machine";

pub(crate) struct Elsewhere {
    pub(crate) scene: Scene,
    child: Child,
    folder: PathBuf,
}

/// Is the machine, and nothing else, where this process was started for that: called first of all.
pub(crate) fn be_the_machine() {
    if std::env::args().any(|word| word == WORD) {
        let scene = Scene::new(None);
        println!("{} {}", scene.machine, scene.folder.path().display());
        loop {
            std::thread::park();
        }
    }
}

impl Elsewhere {
    pub(crate) fn light() -> Self {
        let mut child =
            Command::new(std::env::current_exe().unwrap()).arg(WORD).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
        let (address, folder) = line.trim().split_once(' ').unwrap();
        let folder = PathBuf::from(folder);
        let scene = Scene {
            home: Home::new(folder.join("home")),
            folder: tempfile::tempdir().unwrap(),
            machine: address.parse().unwrap(),
            link: None,
        };
        Self { scene, child, folder }
    }

    /// CPU time of the machine so far.
    pub(crate) fn cpu(&self) -> std::time::Duration {
        crate::support::process_cpu(&self.child.id().to_string())
    }
}

impl Drop for Elsewhere {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}
