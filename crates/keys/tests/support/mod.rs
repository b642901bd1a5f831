//! What the tests with judges share.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub, clippy::print_stderr)]

use std::process::Command;

pub const PYTHON: &str = "/usr/bin/python3";

/// Whether both judges are here. In CI a missing one is a failure; elsewhere the test is skipped loudly.
pub fn judges_are_here() -> bool {
    let works = |program: &str, words: &[&str]| {
        Command::new(program).args(words).output().is_ok_and(|output| output.status.success())
    };
    let here = works("openssl", &["version"]) && works(PYTHON, &["-c", "import cryptography, bcrypt"]);
    assert!(here || std::env::var_os("CI").is_none(), "openssl and python3-cryptography are needed in CI");
    if !here {
        eprintln!(
            "\n*** SKIPPED: openssl, python3-cryptography or python3-bcrypt is missing; run ./test.sh as root ***\n"
        );
    }
    here
}
