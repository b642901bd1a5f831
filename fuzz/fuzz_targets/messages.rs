//! Every decoder of a message body.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| lantern_ssh::fuzzing::decode_messages(bytes));
