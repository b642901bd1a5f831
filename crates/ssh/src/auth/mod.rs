//! The authentication protocol (RFC 4252, 4256): each role's side of it, and the client's plan of what to try.

pub(crate) mod client;
pub(crate) mod plan;
pub(crate) mod server;

/// What has become of a client's attempt that waited.
pub(crate) enum Flushed {
    /// None did, or it waits on.
    Nothing,
    /// It has left; with a signature, or without.
    Sent { is_signed: bool },
    /// It has not, for this reason.
    Event(client::AuthEvent),
}
