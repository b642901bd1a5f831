//! Certificates on a desk, and another toolkit that judges them.

use std::process::{Command, Output};

use serde_json::Value;

use super::{Desk, Outcome};

pub fn openssl(desk: &Desk, words: &[&str]) -> Output {
    Command::new("openssl").args(words).current_dir(desk.folder.path()).output().unwrap()
}

pub fn agrees(desk: &Desk, words: &[&str]) -> bool {
    openssl(desk, words).status.success()
}

/// A desk with a machine of Windows in its book, an authority for it, and a certificate that it signed.
pub fn house(address: &str, port: u16) -> Desk {
    let desk = Desk::new();
    let port = format!("port={port}");
    desk.lantern(&[
        "machine",
        "add",
        "chart-room",
        address,
        &port,
        "protocol=winrm",
        "user=keeper",
        "certificate-name=chart-room.example",
    ])
    .expect(0);
    desk.lantern(&["certificate", "new-authority", "house", "--plain"]).expect(0);
    desk.lantern(&["certificate", "issue", "chart-room", "--plain"]).expect(0);
    desk
}

pub fn value(outcome: &Outcome) -> Value {
    serde_json::from_str(outcome.text())
        .unwrap_or_else(|error| panic!("{error}: {} {}", outcome.text(), outcome.err))
}
