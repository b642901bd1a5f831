//! A logged-in client that hears messages of any kind under good keys.
#![no_main]

use std::time::Instant;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| lantern_ssh::fuzzing::client_after_login(bytes, Instant::now()));
