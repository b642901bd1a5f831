//! The agent protocol: frames, requests and answers, and a keeper that is asked for anything.
#![no_main]

use lantern_ssh::agent::{AgentRequest, Keeper, PlainVault};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    lantern_ssh::fuzzing::agent_messages(bytes);
    if let Ok(request) = AgentRequest::decode(bytes) {
        let mut keeper = Keeper::new(Box::new(PlainVault::default()), true);
        let _ = keeper.handle(request, std::time::Instant::now());
    }
});
