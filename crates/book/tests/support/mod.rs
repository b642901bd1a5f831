//! A home, and books from text.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]

use std::path::Path;

use lantern_book::{Home, MachineBook};

pub fn book(text: &str) -> MachineBook {
    MachineBook::parse(Path::new("machines.toml"), text).unwrap()
}

pub fn home() -> (tempfile::TempDir, Home) {
    let folder = tempfile::tempdir().unwrap();
    let home = Home::new(folder.path().join("lantern"));
    (folder, home)
}
