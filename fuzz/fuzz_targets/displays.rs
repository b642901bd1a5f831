//! What a display here answers, and what stands in the file with its cookies: neither may make us panic or grow.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    lantern_link::fuzz_entries(bytes);
    lantern_link::fuzz_reply(bytes);
});
