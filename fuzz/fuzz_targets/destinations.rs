//! What a user may type or paste for a machine.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = lantern_book::Destination::parse(text);
    let _ = lantern_book::Change::parse(text);
    let _ = lantern_book::Proxy::parse(text);
    let _ = lantern_book::Tunnel::parse(text);
    if let Ok(pasted) = lantern_book::Pasted::parse(text) {
        let _ = pasted.settings();
    }
    let _ = lantern_book::select(&lantern_book::MachineBook::default(), &[text], &[text]);
});
