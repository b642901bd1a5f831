//! What a user may type or paste for a machine.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = lantern_book::Destination::parse(text);
});
