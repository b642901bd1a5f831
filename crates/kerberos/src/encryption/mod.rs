//! What is done with keys (RFC 3961, RFC 3962, RFC 8009).

mod derive;
mod fold;
mod key;
mod mode;

pub use key::Key;

/// What a key is used for, so that nothing that was encrypted for one purpose serves another (RFC 4120 §7.5.1, RFC 4121 §2).
pub(crate) mod usage {
    pub(crate) const TIMESTAMP: u32 = 1;
    pub(crate) const TICKET: u32 = 2;
    pub(crate) const AS_REP: u32 = 3;
    pub(crate) const TGS_CHECKSUM: u32 = 6;
    pub(crate) const TGS_AUTHENTICATOR: u32 = 7;
    pub(crate) const TGS_REP: u32 = 8;
    pub(crate) const AUTHENTICATOR: u32 = 11;
    pub(crate) const AP_REP: u32 = 12;
    pub(crate) const CRED: u32 = 14;
    pub(crate) const ACCEPTOR_SEAL: u32 = 22;
    pub(crate) const ACCEPTOR_SIGN: u32 = 23;
    pub(crate) const INITIATOR_SEAL: u32 = 24;
    pub(crate) const INITIATOR_SIGN: u32 = 25;
}
