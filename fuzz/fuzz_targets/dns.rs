//! What a resolver answers.
#![no_main]

libfuzzer_sys::fuzz_target!(|message: &[u8]| lantern_link::fuzz_answer(message));
