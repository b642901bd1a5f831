//! What a program says that uses a dynamic tunnel, and what a service says behind one.
#![no_main]

use lantern_link::{Greeting, Next, TunnelLogin};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    for login in [false, true] {
        let password = lantern_keys::SecretString::new("fog".into());
        let login = login.then(|| TunnelLogin { user: "keeper".into(), password });
        let mut greeting = Greeting::new(login);
        for piece in bytes.chunks(7) {
            greeting.feed(piece);
            for _ in 0..4 {
                match greeting.look() {
                    Next::Read => break,
                    Next::Say(words) | Next::Refuse(words, _) => assert!(words.len() < 1024),
                    Next::Go(wish) => assert!(wish.port != 0 && !wish.host.is_empty()),
                }
            }
        }
    }
});
