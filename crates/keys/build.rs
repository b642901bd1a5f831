//! Refuses to build where the cryptographic library would take its seed from the jitter of the processor: `.cargo/config.toml`
//! says why not, and does not reach builds that start elsewhere.

const SETTING: &str = "AWS_LC_SYS_NO_JITTER_ENTROPY";

// The core has no environment; what builds it has.
#[allow(clippy::disallowed_methods)]
fn main() {
    println!("cargo::rerun-if-env-changed={SETTING}");
    println!("cargo::rerun-if-changed=build.rs");
    if std::env::var(SETTING).as_deref() != Ok("1") {
        println!(
            "cargo::error=lantern starts a tenth of a second faster when the cryptographic library takes its seed from the \
             kernel alone; put {SETTING}=1 before the command, as in `{SETTING}=1 cargo install …`"
        );
    }
}
