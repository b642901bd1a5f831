//! The DER forms of private keys in the armour that names them, so that the fuzzer need not find the base64 first.
#![no_main]

use base64ct::{Base64, Encoding};
use lantern_keys::container::{Found, read};

const LABELS: [&str; 7] = [
    "PRIVATE KEY",
    "ENCRYPTED PRIVATE KEY",
    "RSA PRIVATE KEY",
    "EC PRIVATE KEY",
    "OPENSSH PRIVATE KEY",
    "PUBLIC KEY",
    "RSA PUBLIC KEY",
];

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((number, content)) = bytes.split_first() else { return };
    let label = LABELS[usize::from(*number) % LABELS.len()];
    let text =
        format!("-----BEGIN {label}-----\n{}\n-----END {label}-----\n", Base64::encode_string(content));
    for found in read(text.as_bytes()).into_iter().flatten() {
        if let Ok(Found::Private(sealed)) = found {
            let _ = sealed.open(None);
        }
    }
});
