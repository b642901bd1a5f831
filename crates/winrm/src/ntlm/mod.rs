//! NTLMv2 (MS-NLMP), both roles: three messages that prove a password without sending it, and keys that sign and seal what follows.
//!
//! Of all that the protocol has been, only this is spoken: version 2 responses, extended session security, 128-bit keys that are exchanged, an integrity
//! code over all three messages, and the binding to the TLS channel around it. A peer that wants less is refused.

mod acceptor;
mod av_pair;
mod flags;
mod initiator;
mod keys;
mod message;
mod seal;

pub use acceptor::{Accepted, Acceptor, Refusal};
pub use av_pair::TargetInfo;
pub use initiator::{Challenged, Initiator, NtlmUser};
pub use message::is_ntlm;
pub use seal::{SIGNATURE_LEN, Seals};

/// Why a message was not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NtlmError {
    /// It is not in the form of MS-NLMP 2.2.1.
    #[error("the NTLM message is damaged: {0}")]
    Damaged(&'static str),
    /// The peer does not do what makes NTLM tolerable.
    #[error("the machine's NTLM lacks {0}, without which it is not safe")]
    TooWeak(&'static str),
    /// A sealed message that was changed, repeated or left out.
    #[error("a sealed message was changed, repeated or left out on the way")]
    Altered,
    /// A user's name or password that UTF-16 fields cannot hold.
    #[error("the user's name is too long")]
    TooLong,
}

/// What binds a login to the TLS connection around it: the hash of the server's certificate (RFC 5929 §4) as the application data of GSS-API channel
/// bindings (RFC 2744 §3.11).
pub fn channel_binding(certificate_hash: &[u8]) -> [u8; 16] {
    use md5::{Digest, Md5};
    const PREFIX: &[u8] = b"tls-server-end-point:";
    let len = u32::try_from(PREFIX.len() + certificate_hash.len()).unwrap_or(u32::MAX);
    let hash = Md5::new().chain_update([0; 16]).chain_update(len.to_le_bytes()).chain_update(PREFIX);
    hash.chain_update(certificate_hash).finalize().into()
}
