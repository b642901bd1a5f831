//! Messages about files, for either role, and a client in the middle of a conversation about them.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| lantern_ssh::fuzzing::file_messages(bytes));
