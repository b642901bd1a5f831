//! What resolvers know: fingerprints of host keys, and where services are.

mod message;
mod srv;
mod sshfp;

pub use message::DnsError;
pub(crate) use srv::{Place, service_places};
pub use sshfp::{SshfpAnswer, sshfp_records};

/// For the fuzz target: an answer to questions for `lamp-01.example`, as it came.
#[cfg(fuzzing)]
pub fn fuzz_answer(message: &[u8]) {
    sshfp::fuzz_answer(message);
    srv::fuzz_answer(message);
}
