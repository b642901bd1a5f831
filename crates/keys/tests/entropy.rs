//! How the cryptographic library was built.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used)]

/// The second source of entropy, which costs each process a tenth of a second, is not in this program: neither its code, nor its name among the
/// symbols that builds for tests keep. `build.rs` sees to it; this looks at what came of it.
#[test]
fn the_library_takes_its_seed_from_the_kernel_alone() {
    // Something of the library is used, so that it is linked at all.
    let key = lantern_keys::PrivateKey::generate(lantern_keys::KeyAlgorithm::Ed25519, "").unwrap();
    assert!(key.public().describe().contains("Ed25519"));
    let program = std::fs::read(std::env::current_exe().unwrap()).unwrap();
    // Put together here, so that the names themselves are not in the program.
    let has = |words: &[&str]| {
        let name = words.join("_");
        program.windows(name.len()).any(|window| window == name.as_bytes())
    };
    assert!(
        has(&["CRYPTO", "sysrand"]) && has(&["RAND", "bytes"]),
        "without symbols this test would say nothing"
    );
    assert!(!has(&["jent", "entropy", "init"]) && !has(&["tree", "jitter", "initialize"]));
}
