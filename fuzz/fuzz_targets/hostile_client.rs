//! A server that a hostile client talks to, from its first byte on.
#![no_main]

use std::time::Instant;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| lantern_ssh::fuzzing::server_input(bytes, Instant::now()));
