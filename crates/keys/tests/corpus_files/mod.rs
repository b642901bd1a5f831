//! The corpus of key files, and what may not show of it. The tests of the program use it too.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]

use std::collections::HashSet;
use std::fs;
use std::path::Path;
use std::process::Command;

use base64ct::{Base64, Encoding};
use serde_json::Value;

/// Writes the corpus into a folder; its manifest.
pub fn write_corpus(folder: &Path) -> Vec<Value> {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../keys/tests/corpus.py");
    let made = Command::new("/usr/bin/python3").arg(script).arg(folder).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    serde_json::from_slice(&fs::read(folder.join("manifest.json")).unwrap()).unwrap()
}

/// The secret bytes of a file.
pub fn secrets_of(entry: &Value) -> Vec<Vec<u8>> {
    let from_hex = |text: &str| {
        (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap()).collect()
    };
    entry["secrets"].as_array().into_iter().flatten().map(|hex| from_hex(hex.as_str().unwrap())).collect()
}

/// Bytes of a secret that may not show in a row: their base64 has no padding.
const PIECE: usize = 9;

/// Whether a text holds a piece of a secret, as hexadecimal or as base64 at any of its three alignments.
pub fn gives_away(text: &str, secrets: &[Vec<u8>]) -> bool {
    let lower = text.to_ascii_lowercase();
    let hex: HashSet<&[u8]> = lower.as_bytes().windows(2 * PIECE).collect();
    let base64: HashSet<&[u8]> = text.as_bytes().windows(PIECE / 3 * 4).collect();
    secrets.iter().flat_map(|secret| secret.windows(PIECE)).any(|piece| {
        let in_hex: String = piece.iter().map(|byte| format!("{byte:02x}")).collect();
        hex.contains(in_hex.as_bytes()) || base64.contains(Base64::encode_string(piece).as_bytes())
    })
}
